<script lang="ts">
  import X from "@lucide/svelte/icons/x";
  import { notices } from "../state/notices.svelte";
</script>

<!-- Below the bar and the views' names: the Timeline's rows, the Sheet and the tools stay free. -->
<div
  class="pointer-events-none fixed top-[92px] left-1/2 z-50 grid max-w-[calc(100vw-16px)] -translate-x-1/2 gap-2"
  aria-live="polite"
>
  {#each notices.list as notice (notice.id)}
    <div
      class="card pointer-events-auto flex max-w-[640px] items-start gap-3 border-l-2 px-3 py-2 shadow-lg"
      class:border-l-coral={notice.grave}
      class:border-l-lime={!notice.grave}
      role={notice.grave ? "alert" : "status"}
    >
      <span class="break-words">{notice.text}</span>
      {#if notice.action}
        <button
          class="whitespace-nowrap text-lime underline"
          onclick={() => {
            notice.action?.run();
            notices.dismiss(notice.id);
          }}>{notice.action.label}</button
        >
      {/if}
      <button aria-label="Dismiss" onclick={() => notices.dismiss(notice.id)}><X size={15} /></button>
    </div>
  {/each}
</div>
