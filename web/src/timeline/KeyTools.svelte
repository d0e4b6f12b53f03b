<script lang="ts">
  // What can be done with the keys chosen.
  import ChevronDown from "@lucide/svelte/icons/chevron-down";
  import { DropdownMenu } from "bits-ui";
  import Picker from "../fields/Picker.svelte";
  import { INTERPOLATIONS } from "../state/channels";
  import type { Interpolation } from "../state/keys";
  import { marks } from "../state/marks.svelte";

  const tools: [string, string, () => unknown][] = [
    ["Constant speed", "from the first to the last of them", () => marks.constantSpeed()],
    ["Mirror", "in reverse", () => marks.mirror()],
    ["Repeat", "once more after the last", () => marks.repeat()],
    ["Twice as long", "", () => marks.scale(2)],
    ["Half as long", "", () => marks.scale(0.5)],
    ["Copy", "Shift+C, to be pasted at another frame", () => marks.copy()],
    ["Remove", "Delete", () => marks.remove()],
  ];
</script>

<div class="flex min-w-0 items-center gap-1.5" role="toolbar" aria-label="Keys chosen">
  <span class="whitespace-nowrap text-soft"
    >{marks.list.length === 1 ? "1 key" : `${marks.list.length} keys`}</span
  >
  <div class="w-[104px] flex-none">
    <Picker
      bare
      label="From these keys on"
      value={"" as Interpolation | ""}
      options={[["", "go on…"], ...INTERPOLATIONS]}
      onpick={(v) => v && marks.go(v)}
    />
  </div>
  <DropdownMenu.Root>
    <DropdownMenu.Trigger class="btn flex-none px-2 py-0.5"
      >Change <ChevronDown size={13} /></DropdownMenu.Trigger
    >
    <DropdownMenu.Portal>
      <DropdownMenu.Content class="card z-50 min-w-[240px] p-1 shadow-2xl" sideOffset={4}>
        {#each tools as [name, note, run] (name)}
          <DropdownMenu.Item
            class="flex min-h-6 items-center justify-between gap-4 rounded-md px-2.5 py-1 data-highlighted:bg-raised"
            textValue={name}
            onSelect={run}><span>{name}</span><span class="text-faint">{note}</span></DropdownMenu.Item
          >
        {/each}
      </DropdownMenu.Content>
    </DropdownMenu.Portal>
  </DropdownMenu.Root>
</div>
