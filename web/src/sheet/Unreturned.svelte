<script lang="ts">
  // The elements that are not back where they began when a loop ends.
  import { shot } from "../state/shot.svelte";

  let { ids }: { ids: number[] } = $props();
  let away = $derived(ids.map((id) => shot.element(id)?.name).filter(Boolean));
</script>

{#if away.length > 0}
  <p class="mt-1 text-stale">
    Not back where {away.length === 1 ? "it" : "they"} began: {away.slice(0, 4).join(", ")}{away.length > 4
      ? ` and ${away.length - 4} more`
      : ""}.
  </p>
{/if}
