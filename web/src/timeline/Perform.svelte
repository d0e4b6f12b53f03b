<script lang="ts">
  import Hand from "@lucide/svelte/icons/hand";
  import { Popover } from "bits-ui";
  import NumberField from "../fields/NumberField.svelte";
  import { performing } from "../state/performing.svelte";
  import { playback } from "../state/playback.svelte";
  import { selection } from "../state/selection.svelte";
  import { shot } from "../state/shot.svelte";

  let names = $derived(selection.ids.map((id) => shot.element(id)?.name).join(", "));
  let words = $derived.by(() => {
    if (performing.state === "preparing") return `Going to frame ${playback.frame}…`;
    if (performing.state === "saving") return "Setting keys…";
    if (performing.on)
      return performing.taken.length > 0
        ? `Performing ${performing.taken.length} ${performing.taken.length === 1 ? "value" : "values"}`
        : `Drag ${names || "a slider"} now`;
    if (performing.hindrance) return performing.hindrance;
    return names
      ? `${names}: play, then drag it in the Viewport or move its sliders`
      : "Select what to lead, play, then drag it";
  });
</script>

<button
  class="flex flex-none items-center gap-1 text-soft aria-pressed:text-lime"
  aria-pressed={performing.armed}
  title="What you drag while it plays becomes keys (P)"
  disabled={performing.state !== "off"}
  onclick={() => (performing.armed = !performing.armed)}><Hand size={13} /> Perform</button
>
{#if performing.armed}
  <span
    class="truncate"
    class:text-soft={!performing.on}
    class:text-lime={performing.on}
    title={words}
    role="status"
    data-testid="performing">{words}</span
  >
  <Popover.Root>
    <Popover.Trigger
      class="ml-auto flex-none text-soft hover:text-ink"
      disabled={performing.state !== "off"}
      title="How near the keys come to what the hand did"
      >within {performing.within.place} mm, {performing.within.turn}°</Popover.Trigger
    >
    <Popover.Portal>
      <Popover.Content
        class="z-50 grid w-72 gap-1 rounded-lg border border-line bg-raised p-3 shadow-xl"
        sideOffset={6}
        align="end"
      >
        <p class="pb-1 text-soft">Keys come within so much of what the hand did.</p>
        <NumberField
          label="Place"
          value={performing.within.place}
          unit="mm"
          oncommit={(value) => (performing.within.place = Math.min(1000, Math.max(0, value)))}
        />
        <NumberField
          label="Turn"
          value={performing.within.turn}
          unit="°"
          oncommit={(value) => (performing.within.turn = Math.min(180, Math.max(0, value)))}
        />
        <NumberField
          label="Other values"
          value={performing.within.other}
          unit="% of range"
          oncommit={(value) => (performing.within.other = Math.min(100, Math.max(0, value)))}
        />
      </Popover.Content>
    </Popover.Portal>
  </Popover.Root>
{/if}
