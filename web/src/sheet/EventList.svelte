<script lang="ts">
  // What becomes of particles: a list of sentences, each opened to be changed.
  import ParameterField from "../fields/ParameterField.svelte";
  import ChevronRight from "@lucide/svelte/icons/chevron-right";
  import X from "@lucide/svelte/icons/x";
  import { kindOf, type Element, type NameOf, type Particles } from "../api/client";
  import ActionFields from "./ActionFields.svelte";
  import TriggerFields from "./TriggerFields.svelte";
  import Picker from "../fields/Picker.svelte";
  import Section from "../fields/Section.svelte";
  import { notices } from "../state/notices.svelte";
  import {
    ACTIONS,
    newAction,
    newTrigger,
    receivers,
    sentence,
    TRIGGERS,
    type Action,
    type Trigger,
  } from "../state/particles";
  import { playback } from "../state/playback.svelte";
  import { shot } from "../state/shot.svelte";

  let { element, particles }: { element: Element; particles: Particles } = $props();
  let list = $derived(particles.events ?? []);
  let open = $state<number | null>(null);
  const name = (id: number) => shot.element(id)?.name ?? "something deleted";
  const at = (path: string) => ({ element, ids: [element.id], path: `kind.particles.events.${path}` });
  const set = (label: string, path: string, value: unknown) =>
    shot.set(`${label} of ${element.name}`, [element.id], `/kind/particles/events${path}`, value);
  const ids = (test: (e: Element) => boolean) => shot.elements.filter(test).map((e) => e.id);

  async function add() {
    open = list.length;
    await set("What becomes", "/-", { trigger: { touch: {} }, action: { die: {} } });
  }

  const remove = (i: number) => set("What becomes", "", (old: unknown[]) => old.toSpliced(i, 1));

  function pickTrigger(i: number, kind: NameOf<Trigger>) {
    const [region] = ids((e) => "region" in e.kind);
    const trigger = newTrigger(kind, region, playback.frame);
    if (!trigger) return notices.say("There is no region. Add one first.");
    return set("Moment", `/${i}/trigger`, trigger);
  }

  function pickAction(i: number, kind: NameOf<Action>) {
    const others = ids((e) => "particles" in e.kind && e.id !== element.id);
    const bodies = receivers(shot.elements).map((e) => e.id);
    const action = newAction(kind, element.id, others, bodies);
    if (action) return set("Outcome", `/${i}/action`, action);
    return notices.say(
      kind === "become"
        ? "There are no other particles. Add some first."
        : "No solid takes bodies from particles. Choose that on a solid's Shape.",
    );
  }
</script>

<Section title="What becomes of them">
  {#each list as entry, i (i)}
    {@const words = sentence(entry, name)}
    <div class="mb-1 rounded-lg bg-ground px-2 py-1">
      <div class="flex items-start gap-1">
        <button
          class="flex flex-1 items-start gap-1 text-left"
          aria-expanded={open === i}
          onclick={() => (open = open === i ? null : i)}
        >
          <ChevronRight size={13} class={`mt-[3px] flex-none ${open === i ? "rotate-90" : ""}`} />
          {words}.
        </button>
        <button class="text-soft" aria-label={`Remove: ${words}`} onclick={() => remove(i)}
          ><X size={13} /></button
        >
      </div>
      {#if open === i}
        <div class="pt-1.5 pb-1">
          <Picker
            label="When"
            value={kindOf(entry.trigger)}
            options={TRIGGERS}
            onpick={(kind) => pickTrigger(i, kind)}
          />
          <TriggerFields {element} trigger={entry.trigger} path={`kind.particles.events.${i}.trigger`} />
          <Picker
            label="Action"
            value={kindOf(entry.action)}
            options={ACTIONS}
            onpick={(kind) => pickAction(i, kind)}
          />
          <ActionFields {element} action={entry.action} index={i} />
          <ParameterField target={at(`${i}.probability`)} />
        </div>
      {/if}
    </div>
  {/each}
  <button class="btn" onclick={add}>Add a sentence</button>
</Section>
