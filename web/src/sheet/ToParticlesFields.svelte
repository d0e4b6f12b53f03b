<script lang="ts">
  // When bodies that came from particles become particles again.
  import type { Element, Schemas } from "../api/client";
  import NumberField from "../fields/NumberField.svelte";
  import Picker from "../fields/Picker.svelte";
  import { notices } from "../state/notices.svelte";
  import { BACKS, kindOf, newWhen } from "../state/particles";
  import { playback } from "../state/playback.svelte";
  import { shot } from "../state/shot.svelte";

  let { element, back }: { element: Element; back: Schemas["ToParticles"] | null } = $props();
  const options = (test: (e: Element) => boolean) =>
    shot.elements.filter(test).map((e): [string, string] => [String(e.id), e.name]);
  let particleElements = $derived(options((e) => "particles" in e.kind));
  let regions = $derived(options((e) => "region" in e.kind));
  const at = (part: string) => ({ element, ids: [element.id], path: `kind.solid.to_particles.${part}` });
  const set = (part: string, value: unknown) =>
    shot.set(`Return of ${element.name}`, [element.id], `/kind/solid/to_particles${part}`, value);

  function pick(kind: string) {
    if (!kind) return set("", null);
    if (!particleElements.length) return notices.say("There are no particles. Add some first.");
    const trigger = newWhen(kind, regions.length ? Number(regions[0][0]) : undefined, playback.frame);
    if (!trigger) return notices.say("There is no region. Add one first.");
    return back ? set("/trigger", trigger) : set("", { trigger, of: Number(particleElements[0][0]) });
  }
</script>

<Picker
  label="Particles again"
  value={back ? kindOf(back.trigger) : ""}
  options={[["", "never"], ...BACKS]}
  onpick={pick}
/>
{#if back}
  {#if "age" in back.trigger}
    <NumberField label="After" unit="s" step={0.1} target={at("trigger.age.age_s")} />
  {:else if "slower" in back.trigger}
    <NumberField label="Speed" unit="m/s" step={0.05} target={at("trigger.slower.speed_m_s")} />
  {:else if "faster" in back.trigger}
    <NumberField label="Speed" unit="m/s" step={0.5} target={at("trigger.faster.speed_m_s")} />
  {:else if "frame" in back.trigger}
    <NumberField
      label="Frame"
      whole
      step={1}
      value={back.trigger.frame.frame}
      oncommit={(v) => set("/trigger/frame/frame", Math.max(0, v))}
    />
  {:else if "region" in back.trigger}
    <Picker
      label="Region"
      value={String(back.trigger.region.region)}
      options={regions}
      onpick={(v) => set("/trigger/region/region", Number(v))}
    />
  {/if}
  <Picker
    label="Which"
    value={String(back.of)}
    options={particleElements}
    onpick={(v) => set("/of", Number(v))}
  />
{/if}
