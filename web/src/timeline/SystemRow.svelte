<script lang="ts">
  // A system of the run: its frames, fresh, stale or missing.
  import ComputedBar from "./ComputedBar.svelte";
  import OnlySwitch from "./OnlySwitch.svelte";
  import type { SystemState } from "../api/client";

  let { system, scrub }: { system: SystemState; scrub: (event: PointerEvent) => void } = $props();
</script>

<div
  class="grid h-[27px] grid-cols-[206px_1fr] items-center border-b border-line/40"
  data-system={system.system}
>
  <span class="flex min-w-0 items-center gap-2 pr-3 pl-[26px] text-soft"
    ><span class="truncate">{system.name}</span><OnlySwitch {system} /></span
  >
  <div class="relative h-full cursor-ew-resize" onpointerdown={scrub} role="presentation">
    <ComputedBar stretches={system.stretches} />
  </div>
</div>
