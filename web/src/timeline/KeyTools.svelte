<script lang="ts">
  import Picker from "../fields/Picker.svelte";
  import { INTERPOLATIONS } from "../state/channels";
  import type { Interpolation } from "../state/keys";
  import { marks } from "../state/marks.svelte";

  const tools: [string, string, () => unknown][] = [
    ["Constant speed", "From the first to the last of them at one speed", () => marks.constantSpeed()],
    ["Mirror", "In reverse", () => marks.mirror()],
    ["Repeat", "Once more after the last", () => marks.repeat()],
    ["× 2", "Twice as long", () => marks.scale(2)],
    ["× ½", "Half as long", () => marks.scale(0.5)],
    ["Copy", "To be pasted at another frame (Shift+C)", () => marks.copy()],
    ["Remove", "Remove the keys (Delete)", () => marks.remove()],
  ];
</script>

<div class="flex items-center gap-1.5" role="toolbar" aria-label="Keys chosen">
  <span class="whitespace-nowrap text-soft"
    >{marks.list.length === 1 ? "1 key" : `${marks.list.length} keys`}</span
  >
  <div class="w-[124px]">
    <Picker
      bare
      label="From these keys on"
      value=""
      options={[["", "go on…"], ...INTERPOLATIONS]}
      onpick={(v) => v && marks.go(v as Interpolation)}
    />
  </div>
  {#each tools as [name, title, run] (name)}
    <button class="btn px-2 py-0.5 whitespace-nowrap" {title} onclick={run}>{name}</button>
  {/each}
</div>
