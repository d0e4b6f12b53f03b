<script lang="ts">
  import ParameterField from "../fields/ParameterField.svelte";
  import type { Element } from "../api/client";
  import NumberField from "../fields/NumberField.svelte";
  import { atSpeed, finishOf, partAtSpeed, setCurve, stepsOf } from "../state/finishing";
  import { playback } from "../state/playback.svelte";
  import { shot } from "../state/shot.svelte";
  import type { Target } from "../state/target";

  let { element, at }: { element: Element; at: (path: string) => Target } = $props();

  /** The frames that come in: those that the step before gives. */
  let span = $derived.by(() => {
    const steps = stepsOf(finishOf(element)?.element ?? null);
    const before = steps[steps.findIndex((step) => step.id === element.id) - 1];
    const given = playback.freshness?.finished?.steps.find((step) => step.step === before?.id);
    const timing = shot.document!.timing;
    return given ?? { first: timing.first, last: timing.last };
  });
  const SPEEDS: [number, string][] = [
    [1 / 8, "⅛"],
    [1 / 4, "¼"],
    [1 / 2, "½"],
    [1, "1"],
    [2, "2"],
    [-1, "backwards"],
  ];
  let from = $state(0);
  let to = $state(0);
  let factor = $state(0.5);
  $effect(() => {
    from ||= Math.round(span.first + 0.4 * (span.last - span.first));
    to ||= Math.round(span.first + 0.6 * (span.last - span.first));
  });
</script>

<ParameterField target={at("operation.retime.run_frame")} />
<ParameterField target={at("operation.retime.frames")} />
<h3 class="mt-3 mb-1 font-[650] text-soft">All at one speed</h3>
<div class="flex flex-wrap gap-1">
  {#each SPEEDS as [speed, words] (words)}
    <button
      class="btn px-2 py-0.5"
      aria-label={speed < 0 ? "All backwards" : `All at ${words} of the speed`}
      onclick={() => setCurve(element, `${element.name} at one speed`, atSpeed(span, speed))}>{words}</button
    >
  {/each}
</div>
<h3 class="mt-3 mb-1 font-[650] text-soft">Slow a part</h3>
<NumberField label="From frame" whole step={1} value={from} oncommit={(v) => (from = v)} />
<NumberField label="To frame" whole step={1} value={to} oncommit={(v) => (to = v)} />
<NumberField
  label="Speed"
  unit="×"
  step={0.05}
  slide={[0.05, 2]}
  value={factor}
  oncommit={(v) => (factor = v)}
/>
<button
  class="btn mt-1"
  disabled={!(factor > 0) || from >= to}
  onclick={() => setCurve(element, `${element.name}, a part slowed`, partAtSpeed(span, from, to, factor))}
  >Give these frames that speed</button
>
