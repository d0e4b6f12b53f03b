<script lang="ts">
  // When bodies that came from particles become particles again.
  import { kindOf, type Element, type NameOf, type Schemas } from "../api/client";
  import TriggerFields from "./TriggerFields.svelte";
  import Picker from "../fields/Picker.svelte";
  import { notices } from "../state/notices.svelte";
  import { BACKS, newTrigger, type Trigger } from "../state/particles";
  import { playback } from "../state/playback.svelte";
  import { options } from "../state/options";
  import { shot } from "../state/shot.svelte";

  let { element, back }: { element: Element; back: Schemas["ToParticles"] | null } = $props();
  let particleElements = $derived(options((e) => "particles" in e.kind));
  let regions = $derived(options((e) => "region" in e.kind));
  const set = (part: string, value: unknown) =>
    shot.set(`Return of ${element.name}`, [element.id], `/kind/solid/to_particles${part}`, value);

  function pick(kind: NameOf<Trigger> | "") {
    if (!kind) return set("", null);
    if (!particleElements.length) return notices.say("There are no particles. Add some first.");
    const trigger = newTrigger(kind, regions.length ? Number(regions[0][0]) : undefined, playback.frame);
    if (!trigger) return notices.say("There is no region. Add one first.");
    return back ? set("/trigger", trigger) : set("", { trigger, particles: Number(particleElements[0][0]) });
  }
</script>

<Picker
  label="Particles again"
  value={back ? kindOf(back.trigger) : ""}
  options={[["", "never"], ...BACKS]}
  onpick={pick}
/>
{#if back}
  <TriggerFields {element} trigger={back.trigger} path="kind.solid.to_particles.trigger" />
  <Picker
    label="Which"
    value={String(back.particles)}
    options={particleElements}
    onpick={(v) => set("/particles", Number(v))}
  />
{/if}
