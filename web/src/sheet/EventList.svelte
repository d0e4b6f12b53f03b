<script lang="ts">
  // What becomes of particles: a list of sentences, each opened to be changed.
  import ChevronRight from "@lucide/svelte/icons/chevron-right";
  import X from "@lucide/svelte/icons/x";
  import type { Element, Particles, Schemas } from "../api/client";
  import NumberField from "../fields/NumberField.svelte";
  import Picker from "../fields/Picker.svelte";
  import Section from "../fields/Section.svelte";
  import Tick from "../fields/Tick.svelte";
  import ElementFilterList from "../fields/ElementFilterList.svelte";
  import { notices } from "../state/notices.svelte";
  import { kindOf, newThen, newWhen, receivers, sentence, THENS, WHENS } from "../state/particles";
  import { playback } from "../state/playback.svelte";
  import { shot } from "../state/shot.svelte";
  import { values } from "../state/values.svelte";

  let { element, particles }: { element: Element; particles: Particles } = $props();
  let list = $derived(particles.events ?? []);
  let open = $state<number | null>(null);
  const name = (id: number) => shot.element(id)?.name ?? "something deleted";
  const at = (path: string) => ({ element, ids: [element.id], path: `kind.particles.events.${path}` });
  const set = (label: string, path: string, value: unknown) =>
    shot.set(`${label} of ${element.name}`, [element.id], `/kind/particles/events${path}`, value);
  const options = (test: (e: Element) => boolean) =>
    shot.elements.filter(test).map((e): [string, string] => [String(e.id), e.name]);
  let regions = $derived(options((e) => "region" in e.kind));
  let particleElements = $derived(options((e) => "particles" in e.kind && e.id !== element.id));
  let solids = $derived<[Schemas["ElementFilter"], string][]>(
    shot.elements.filter((e) => "solid" in e.kind).map((e) => [e.id, e.name]),
  );
  let bodies = $derived(receivers(shot.elements).map((e): [string, string] => [String(e.id), e.name]));

  async function add() {
    open = list.length;
    await set("What becomes", "/-", { trigger: { touch: {} }, action: { die: {} } });
  }

  function pickWhen(i: number, kind: string) {
    const trigger = newWhen(kind, regions.length ? Number(regions[0][0]) : undefined, playback.frame);
    if (!trigger) return notices.say("There is no region. Add one first.");
    return set("Moment", `/${i}/trigger`, trigger);
  }

  function pickThen(i: number, kind: string) {
    const ids = (of: [string, string][]) => of.map(([id]) => Number(id));
    const action = newThen(kind, element.id, ids(particleElements), ids(bodies));
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
    <div class="mb-1 rounded-lg bg-ground px-2 py-1">
      <div class="flex items-start gap-1">
        <button
          class="flex flex-1 items-start gap-1 text-left"
          aria-expanded={open === i}
          onclick={() => (open = open === i ? null : i)}
        >
          <ChevronRight size={13} class={`mt-[3px] flex-none ${open === i ? "rotate-90" : ""}`} />
          {sentence(entry, name)}.
        </button>
        <button
          class="text-soft"
          aria-label={`Remove: ${sentence(entry, name)}`}
          onclick={() =>
            set("What becomes", "", (old: unknown[]) => {
              return old.filter((_, at) => at !== i);
            })}><X size={13} /></button
        >
      </div>
      {#if open === i}
        <div class="pt-1.5 pb-1">
          <Picker label="When" value={kindOf(entry.trigger)} options={WHENS} onpick={(v) => pickWhen(i, v)} />
          {#if "age" in entry.trigger}
            <NumberField label="Age" unit="s" step={0.1} target={at(`${i}.trigger.age.age_s`)} />
          {:else if "touch" in entry.trigger}
            <NumberField
              label="Speed at least"
              unit="m/s"
              step={0.1}
              value={0}
              target={at(`${i}.trigger.touch.speed_m_s`)}
            />
            <ElementFilterList
              offered={solids}
              chosen={entry.trigger.touch.of ?? []}
              onchange={(next) => set("Touched bodies", `/${i}/trigger/touch/of`, next)}
            />
          {:else if "region" in entry.trigger}
            <Picker
              label="Region"
              value={String(entry.trigger.region.region)}
              options={regions}
              onpick={(v) => set("Region", `/${i}/trigger/region/region`, Number(v))}
            />
          {:else if "faster" in entry.trigger}
            <NumberField label="Speed" unit="m/s" step={0.5} target={at(`${i}.trigger.faster.speed_m_s`)} />
          {:else if "slower" in entry.trigger}
            <NumberField label="Speed" unit="m/s" step={0.05} target={at(`${i}.trigger.slower.speed_m_s`)} />
          {:else if "frame" in entry.trigger}
            <NumberField
              label="Frame"
              whole
              step={1}
              value={entry.trigger.frame.frame}
              oncommit={(v) => set("Moment", `/${i}/trigger/frame/frame`, Math.max(0, v))}
            />
          {:else if "count" in entry.trigger}
            <NumberField
              label="Count"
              whole
              step={100}
              value={entry.trigger.count.count}
              oncommit={(v) => set("Moment", `/${i}/trigger/count/count`, Math.max(1, v))}
            />
          {/if}
          <Picker
            label="Action"
            value={kindOf(entry.action)}
            options={THENS}
            onpick={(v) => pickThen(i, v)}
          />
          {#if "become" in entry.action}
            <Picker
              label="Which"
              value={String(entry.action.become.of)}
              options={particleElements}
              onpick={(v) => set("Outcome", `/${i}/action/become/of`, Number(v))}
            />
          {:else if "solid" in entry.action}
            <Picker
              label="Which"
              value={String(entry.action.solid.of)}
              options={bodies}
              onpick={(v) => set("Outcome", `/${i}/action/solid/of`, Number(v))}
            />
          {:else if "trail" in entry.action}
            <Picker
              label="Which"
              value={String(entry.action.trail.of)}
              options={particleElements}
              onpick={(v) => set("Outcome", `/${i}/action/trail/of`, Number(v))}
            />
            <NumberField label="A second" step={5} target={at(`${i}.action.trail.per_s`)} />
          {:else if "split" in entry.action}
            {@const part = (of: string) => at(`${i}.action.split.${of}`)}
            <Picker
              label="Into"
              value={entry.action.split.of == null ? "" : String(entry.action.split.of)}
              options={[["", "its own kind"], ...particleElements]}
              onpick={(v) => set("Outcome", `/${i}/action/split/of`, v ? Number(v) : null)}
            />
            <NumberField
              label="Number"
              whole
              step={1}
              value={entry.action.split.count ?? 6}
              oncommit={(v) => set("Number", `/${i}/action/split/count`, Math.max(1, v))}
            />
            <NumberField label="Speed" unit="m/s" step={0.1} target={part("speed_m_s")} />
            <NumberField label="± speed" step={0.05} slide={[0, 1]} target={part("speed_variation")} />
            <NumberField
              label="Spread"
              unit="°"
              scale={180 / Math.PI}
              step={1}
              slide={[0, 180]}
              target={part("spread_rad")}
            />
            <NumberField
              label="Of its motion"
              step={0.05}
              slide={[0, 1]}
              target={part("inherited_velocity")}
            />
            <NumberField label="Spin" unit="rad/s" step={0.5} target={part("angular_speed_rad_s")} />
            <NumberField
              label="Size"
              step={0.05}
              blank="as they are born"
              target={part("size")}
              onclear={() => values.set(part("size"), "Size", null)}
            />
            <Tick
              label="It goes on itself"
              checked={entry.action.split.stays === true}
              onchange={(checked) => set("Outcome", `/${i}/action/split/stays`, checked)}
            />
          {/if}
          <NumberField
            label="Probability"
            step={0.05}
            slide={[0, 1]}
            value={1}
            target={at(`${i}.probability`)}
          />
        </div>
      {/if}
    </div>
  {/each}
  <button class="btn" onclick={add}>Add a sentence</button>
</Section>
