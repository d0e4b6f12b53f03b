<script lang="ts">
  // When bodies that came from particles become particles again.
  import type { Element, Schemas } from "../api/client";
  import NumberField from "./NumberField.svelte";
  import Picker from "./Picker.svelte";
  import { notices } from "../state/notices.svelte";
  import { BACKS, kindOf, newWhen } from "../state/particles";
  import { playback } from "../state/playback.svelte";
  import { shot } from "../state/shot.svelte";

  let { element, back }: { element: Element; back: Schemas["Back"] | null } = $props();
  const options = (test: (e: Element) => boolean) =>
    shot.elements.filter(test).map((e): [string, string] => [String(e.id), e.name]);
  let swarms = $derived(options((e) => "particles" in e.is));
  let regions = $derived(options((e) => "region" in e.is));
  const at = (part: string) => ({ element, ids: [element.id], path: `is.solid.back.${part}` });
  const set = (part: string, value: unknown) =>
    shot.set(`Return of ${element.name}`, [element.id], `/is/solid/back${part}`, value);

  function pick(kind: string) {
    if (!kind) return set("", null);
    if (!swarms.length) return notices.say("There are no particles. Add some first.");
    const when = newWhen(kind, regions.length ? Number(regions[0][0]) : undefined, playback.frame);
    if (!when) return notices.say("There is no region. Add one first.");
    return back ? set("/when", when) : set("", { when, of: Number(swarms[0][0]) });
  }
</script>

<Picker
  label="Particles again"
  value={back ? kindOf(back.when) : ""}
  options={[["", "never"], ...BACKS]}
  onpick={pick}
/>
{#if back}
  {#if "age" in back.when}
    <NumberField label="After" unit="s" step={0.1} target={at("when.age.s")} />
  {:else if "slower" in back.when}
    <NumberField label="Speed" unit="m/s" step={0.05} target={at("when.slower.speed_m_s")} />
  {:else if "faster" in back.when}
    <NumberField label="Speed" unit="m/s" step={0.5} target={at("when.faster.speed_m_s")} />
  {:else if "frame" in back.when}
    <NumberField
      label="Frame"
      whole
      step={1}
      value={back.when.frame.frame}
      oncommit={(v) => set("/when/frame/frame", Math.max(0, v))}
    />
  {:else if "region" in back.when}
    <Picker
      label="Region"
      value={String(back.when.region.region)}
      options={regions}
      onpick={(v) => set("/when/region/region", Number(v))}
    />
  {/if}
  <Picker label="Which" value={String(back.of)} options={swarms} onpick={(v) => set("/of", Number(v))} />
{/if}
