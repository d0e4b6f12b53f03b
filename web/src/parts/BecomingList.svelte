<script lang="ts">
  // What becomes of particles: a list of sentences, each opened to be changed.
  import ChevronRight from "@lucide/svelte/icons/chevron-right";
  import X from "@lucide/svelte/icons/x";
  import type { Element, Particles, Schemas } from "../api/client";
  import NumberField from "./NumberField.svelte";
  import Picker from "./Picker.svelte";
  import Section from "./Section.svelte";
  import Tick from "./Tick.svelte";
  import WhoList from "./WhoList.svelte";
  import { notices } from "../state/notices.svelte";
  import { kindOf, newThen, newWhen, receivers, sentence, THENS, WHENS } from "../state/particles";
  import { playback } from "../state/playback.svelte";
  import { shot } from "../state/shot.svelte";
  import { values } from "../state/values.svelte";

  let { element, particles }: { element: Element; particles: Particles } = $props();
  let list = $derived(particles.becoming ?? []);
  let open = $state<number | null>(null);
  const name = (id: number) => shot.element(id)?.name ?? "something deleted";
  const at = (path: string) => ({ element, ids: [element.id], path: `is.particles.becoming.${path}` });
  const set = (label: string, path: string, value: unknown) =>
    shot.set(`${label} of ${element.name}`, [element.id], `/is/particles/becoming${path}`, value);
  const options = (test: (e: Element) => boolean) =>
    shot.elements.filter(test).map((e): [string, string] => [String(e.id), e.name]);
  let regions = $derived(options((e) => "region" in e.is));
  let swarms = $derived(options((e) => "particles" in e.is && e.id !== element.id));
  let solids = $derived<[Schemas["Who"], string][]>(
    shot.elements.filter((e) => "solid" in e.is).map((e) => [e.id, e.name]),
  );
  let bodies = $derived(receivers(shot.elements).map((e): [string, string] => [String(e.id), e.name]));

  async function add() {
    open = list.length;
    await set("What becomes", "/-", { when: { touch: {} }, then: { die: {} } });
  }

  function pickWhen(i: number, kind: string) {
    const when = newWhen(kind, regions.length ? Number(regions[0][0]) : undefined, playback.frame);
    if (!when) return notices.say("There is no region. Add one first.");
    return set("Moment", `/${i}/when`, when);
  }

  function pickThen(i: number, kind: string) {
    const ids = (of: [string, string][]) => of.map(([id]) => Number(id));
    const then = newThen(kind, element.id, ids(swarms), ids(bodies));
    if (then) return set("Outcome", `/${i}/then`, then);
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
          <Picker label="When" value={kindOf(entry.when)} options={WHENS} onpick={(v) => pickWhen(i, v)} />
          {#if "age" in entry.when}
            <NumberField label="Age" unit="s" step={0.1} target={at(`${i}.when.age.s`)} />
          {:else if "touch" in entry.when}
            <NumberField
              label="Speed at least"
              unit="m/s"
              step={0.1}
              value={0}
              target={at(`${i}.when.touch.speed_m_s`)}
            />
            <WhoList
              offered={solids}
              chosen={entry.when.touch.of ?? []}
              onchange={(next) => set("Touched bodies", `/${i}/when/touch/of`, next)}
            />
          {:else if "region" in entry.when}
            <Picker
              label="Region"
              value={String(entry.when.region.region)}
              options={regions}
              onpick={(v) => set("Region", `/${i}/when/region/region`, Number(v))}
            />
          {:else if "faster" in entry.when}
            <NumberField label="Speed" unit="m/s" step={0.5} target={at(`${i}.when.faster.speed_m_s`)} />
          {:else if "slower" in entry.when}
            <NumberField label="Speed" unit="m/s" step={0.05} target={at(`${i}.when.slower.speed_m_s`)} />
          {:else if "frame" in entry.when}
            <NumberField
              label="Frame"
              whole
              step={1}
              value={entry.when.frame.frame}
              oncommit={(v) => set("Moment", `/${i}/when/frame/frame`, Math.max(0, v))}
            />
          {:else if "count" in entry.when}
            <NumberField
              label="So many"
              whole
              step={100}
              value={entry.when.count.number}
              oncommit={(v) => set("Moment", `/${i}/when/count/number`, Math.max(1, v))}
            />
          {/if}
          <Picker label="They" value={kindOf(entry.then)} options={THENS} onpick={(v) => pickThen(i, v)} />
          {#if "become" in entry.then}
            <Picker
              label="Which"
              value={String(entry.then.become.of)}
              options={swarms}
              onpick={(v) => set("Outcome", `/${i}/then/become/of`, Number(v))}
            />
          {:else if "solid" in entry.then}
            <Picker
              label="Which"
              value={String(entry.then.solid.of)}
              options={bodies}
              onpick={(v) => set("Outcome", `/${i}/then/solid/of`, Number(v))}
            />
          {:else if "trail" in entry.then}
            <Picker
              label="Which"
              value={String(entry.then.trail.of)}
              options={swarms}
              onpick={(v) => set("Outcome", `/${i}/then/trail/of`, Number(v))}
            />
            <NumberField label="A second" step={5} target={at(`${i}.then.trail.per_s`)} />
          {:else if "split" in entry.then}
            {@const part = (of: string) => at(`${i}.then.split.${of}`)}
            <Picker
              label="Into"
              value={entry.then.split.of == null ? "" : String(entry.then.split.of)}
              options={[["", "its own kind"], ...swarms]}
              onpick={(v) => set("Outcome", `/${i}/then/split/of`, v ? Number(v) : null)}
            />
            <NumberField
              label="Number"
              whole
              step={1}
              value={entry.then.split.number ?? 6}
              oncommit={(v) => set("Number", `/${i}/then/split/number`, Math.max(1, v))}
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
            <NumberField label="Of its motion" step={0.05} slide={[0, 1]} target={part("inherit")} />
            <NumberField label="Spin" unit="rad/s" step={0.5} target={part("spin_rad_s")} />
            <NumberField
              label="Size"
              step={0.05}
              blank="as they are born"
              target={part("size")}
              onclear={() => values.set(part("size"), "Size", null)}
            />
            <Tick
              label="It goes on itself"
              checked={entry.then.split.stays === true}
              onchange={(checked) => set("Outcome", `/${i}/then/split/stays`, checked)}
            />
          {/if}
          <NumberField label="Share" step={0.05} slide={[0, 1]} value={1} target={at(`${i}.share`)} />
        </div>
      {/if}
    </div>
  {/each}
  <button class="btn" onclick={add}>Add a sentence</button>
</Section>
