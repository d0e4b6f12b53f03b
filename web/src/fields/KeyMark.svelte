<script lang="ts">
  import { playback } from "../state/playback.svelte";
  import { values, type Target } from "../state/values.svelte";

  let { label, target }: { label: string; target: Target } = $props();
  let how = $derived(values.how(target));
  const words = $derived(
    {
      constant: `Key ${label.toLowerCase()} at frame ${playback.frame}`,
      keyed: `Key ${label.toLowerCase()} at frame ${playback.frame}`,
      here: `Remove the key of ${label.toLowerCase()} at frame ${playback.frame}`,
      formula: `${label} follows a formula`,
    }[how],
  );
</script>

<button
  class="group/mark -ml-1 grid h-5 w-4 flex-none place-items-center"
  aria-label={words}
  title={words}
  data-how={how}
  disabled={how === "formula"}
  onclick={() => values.toggleKey(target, label)}
>
  {#if how === "formula"}<i class="text-[12px] leading-none text-aqua">ƒ</i>
  {:else}<i
      class="h-[9px] w-[9px] rounded-full border-[1.5px] group-hover/mark:border-lime"
      class:border-line={how === "constant"}
      class:border-lime={how !== "constant"}
      class:bg-lime={how === "here"}
    ></i>{/if}
</button>
