<script lang="ts">
  // Adds a finishing step, for the whole shot or the element selected.
  import { DropdownMenu } from "bits-ui";
  import type { NameOf } from "../api/client";
  import { addStep, finishable, STEPS, stepsOf, type FinishOperation } from "../state/finishing";
  import { keptRuns } from "../state/keptRuns.svelte";
  import { playback } from "../state/playback.svelte";
  import { shot } from "../state/shot.svelte";

  // A step may be of a kept run.
  $effect(() => {
    void playback.changes;
    if (shot.id !== null) keptRuns.refresh();
  });

  let chosen = $derived(finishable());
  let names = Object.keys(STEPS) as NameOf<FinishOperation>[];

  /** The frames that come into a new step. */
  function span(element: number | null) {
    const before = stepsOf(element).map((step) => step.id);
    const given = playback.freshness?.finished?.steps.filter((step) => before.includes(step.step)) ?? [];
    const last = given[given.length - 1];
    const timing = shot.document!.timing;
    return last ? { first: last.first, last: last.last } : { first: timing.first, last: timing.last };
  }
  const targets = $derived<[number | null, string][]>(
    chosen
      ? [
          [null, "For the whole shot"],
          [chosen.id, `For ${chosen.name}`],
        ]
      : [[null, "For the whole shot"]],
  );
</script>

<DropdownMenu.Root>
  <DropdownMenu.Trigger class="pl-[17px] text-left text-faint hover:text-ink">+ finish</DropdownMenu.Trigger>
  <DropdownMenu.Portal>
    <DropdownMenu.Content class="card z-40 p-1.5 shadow-2xl" align="start" sideOffset={2}>
      <div class="flex gap-2">
        {#each targets as [element, words] (element)}
          <DropdownMenu.Group>
            <DropdownMenu.GroupHeading class="max-w-[240px] truncate px-2.5 pb-0.5 text-[11px] text-faint"
              >{words}</DropdownMenu.GroupHeading
            >
            {#each names as name (name)}
              <DropdownMenu.Item
                class="flex justify-between gap-6 rounded-md px-2.5 py-1 outline-none data-highlighted:bg-raised"
                onSelect={() => addStep(name, element, span(element))}
                >{STEPS[name].name} <small class="text-faint">{STEPS[name].about}</small></DropdownMenu.Item
              >
            {/each}
          </DropdownMenu.Group>
        {/each}
      </div>
    </DropdownMenu.Content>
  </DropdownMenu.Portal>
</DropdownMenu.Root>
