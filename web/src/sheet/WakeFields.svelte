<script lang="ts">
  import ParameterField from "../fields/ParameterField.svelte";
  import type { Element, Schemas } from "../api/client";
  import NumberField from "../fields/NumberField.svelte";
  import Picker from "../fields/Picker.svelte";
  import { playback } from "../state/playback.svelte";
  import { shot } from "../state/shot.svelte";

  interface Props {
    element: Element;
    body: Partial<Schemas["Body"]>;
    solids: number[];
  }
  let { element, body, solids }: Props = $props();
  let wake = $derived(body.wake ?? null);
  let kind = $derived(wake ? Object.keys(wake)[0] : "");
  let animated = $derived(body.moves === "animated");
  let regions = $derived(shot.elements.filter((e) => "region" in e.kind));
  const word = $derived(animated ? "Let go" : "Wake");
  const set = (value: unknown) =>
    shot.set(`${word} of ${element.name}`, solids, "/kind/solid/body/wake", value);

  const at = (part: string) => ({ element, ids: solids, path: `kind.solid.body.wake.${part}` });

  function pick(next: string) {
    if (next === "") return set(null);
    if (next === "frame") return set({ frame: playback.frame });
    if (next === "touch") return set({ touch: { impulse_n_s: 1 } });
    if (next === "neighbour") return set({ neighbour: { within_m: 0.02 } });
    return set({ region: Number(next) });
  }
</script>

<Picker
  label={word}
  value={wake && "region" in wake ? String(wake.region) : kind}
  options={[
    ["", animated ? "never" : "from the start"],
    ["frame", "at a frame"],
    ["touch", "when it is touched"],
    ["neighbour", "when a neighbour wakes"],
    ...regions.map((e): [string, string] => [String(e.id), `in ${e.name}`]),
  ]}
  onpick={pick}
/>
{#if wake && "frame" in wake}
  <NumberField
    label={animated ? "Let go at" : "Wakes at"}
    unit="frame"
    whole
    step={1}
    value={wake.frame}
    oncommit={(v) => set({ frame: Math.max(0, v) })}
    onclear={() => set(null)}
  />
{:else if wake && "touch" in wake}
  <ParameterField target={at("touch.impulse_n_s")} />
{:else if wake && "neighbour" in wake}
  <ParameterField target={at("neighbour.within_m")} />
{/if}
