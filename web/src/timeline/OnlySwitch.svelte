<script lang="ts">
  // Computes one system while the others hold.
  import type { SystemState } from "../api/client";
  import { playback } from "../state/playback.svelte";

  let { system }: { system: SystemState } = $props();
  let on = $derived(playback.only === system.system);
</script>

<button
  class="ml-auto rounded px-1 text-[11px] font-normal text-faint hover:text-ink aria-pressed:text-lime"
  aria-pressed={on}
  aria-label={`Compute only ${system.name}`}
  title={on
    ? "The other systems hold; press to compute all again"
    : "Playing computes this alone; the others hold"}
  onclick={() => playback.computeOnly(system.system)}>{on ? "only this" : "only"}</button
>
