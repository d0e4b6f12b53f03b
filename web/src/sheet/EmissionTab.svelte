<script lang="ts">
  import ParameterField from "../fields/ParameterField.svelte";
  import { kindOf, type Element, type NameOf, type Particles, type Schemas } from "../api/client";
  import EmissionSource from "./EmissionSource.svelte";
  import Picker from "../fields/Picker.svelte";
  import Section from "../fields/Section.svelte";
  import { LIQUID_SCHEDULES } from "../state/liquid";
  import { forecast } from "../state/particles";
  import { shot } from "../state/shot.svelte";
  import { bytes } from "../state/time";
  import { values } from "../state/values.svelte";
  import { selection } from "../state/selection.svelte";

  let { element, particles }: { element: Element; particles: Particles } = $props();
  let from = $derived(particles.source ?? { point: {} });
  let broken = $derived("broken" in from);
  // The event that emits, in words, where a source emits at events.
  let each = $derived(broken ? "body" : "impacts" in from ? "hit" : "");
  let released = $derived("liquid" in from);
  let emission = $derived<Partial<Schemas["Emission"]>>(particles.emission ?? {});
  let schedule = $derived(emission.schedule ?? { rate: { per_s: 200 } });
  let start = $derived<Partial<Schemas["Start"]>>(particles.start ?? {});
  const at = (path: string) => ({ element, ids: selection.with(element.id), path: `kind.particles.${path}` });
  const set = (label: string, path: string, value: unknown) => values.assign(at(path), label, value);

  let ways = $derived<[NameOf<Schemas["EmissionSchedule"]>, string][]>([
    ...(particles.liquid ? LIQUID_SCHEDULES : []).map(([way, words]): [typeof way, string] => [way, words]),
    ["rate", each ? `so many a second of a ${each}` : "so many a second"],
    ["total", each ? `a number for each ${each}` : "a number over the frames"],
    ["burst", "all at once"],
    ["never", "only of other particles"],
    ...(released
      ? [["released", "by the numbers above"] as [NameOf<Schemas["EmissionSchedule"]>, string]]
      : []),
  ]);
  let pool = $derived("pool" in from);
  let hides = $derived(
    released
      ? ["rate", "total", "burst", "never"]
      : pool
        ? ["flow", "jet", "rate", "total", "burst", "never"]
        : broken
          ? ["rate", "burst"]
          : each
            ? ["burst"]
            : [],
  );
  let keyed = $derived(
    each !== "" ||
      Object.keys(element.channels ?? {}).some((path) => /emission\.schedule|lifespan_s/.test(path)),
  );
  let foreseen = $derived(shot.document && forecast(particles, shot.document.timing, keyed));

  function pickSchedule(next: NameOf<Schemas["EmissionSchedule"]>) {
    const number =
      "total" in schedule ? schedule.total.count : "burst" in schedule ? schedule.burst.count : 1000;
    const made: Record<typeof next, Schemas["EmissionSchedule"]> = {
      rate: { rate: { per_s: 200 } },
      total: { total: { count: number } },
      burst: { burst: { count: number } },
      fill: { fill: {} },
      flow: { flow: { m3_s: 0.0005 } },
      jet: { jet: {} },
      released: { released: {} },
      never: { never: {} },
    };
    void set("Births", "emission.schedule", made[next]);
  }
</script>

<EmissionSource {element} {particles} />
<Section
  title="How many"
  note={foreseen
    ? `about ${foreseen.alive.toLocaleString("en")} at once, ${bytes(foreseen.bytes)} a frame`
    : ""}
>
  <Picker
    label="Born"
    target={at("emission.schedule")}
    value={kindOf(schedule)}
    options={ways.filter(([way]) => way === kindOf(schedule) || !hides.includes(way))}
    onpick={pickSchedule}
  />
  {#if "rate" in schedule}
    <ParameterField target={at("emission.schedule.rate.per_s")} />
  {:else if "total" in schedule}
    <ParameterField target={at("emission.schedule.total.count")} />
  {:else if "flow" in schedule}
    <ParameterField target={at("emission.schedule.flow.m3_s")} />
  {:else if "burst" in schedule}
    <ParameterField target={at("emission.schedule.burst.count")} />
  {/if}
  {#if !("never" in schedule)}
    <ParameterField target={at("emission.from_frame")} />
    <ParameterField target={at("emission.to_frame")} />
    {#if !each && !released}
      <ParameterField target={at("emission.preroll_s")} />
    {/if}
  {/if}
  <ParameterField target={at("seed")} />
</Section>
<Section title="At birth" note="± at most">
  <Picker
    label="Direction"
    target={at("start.direction")}
    value={start.direction ?? "up"}
    options={[
      ["up", "along its own y"],
      ["normal", "out of the surface"],
      ["motion", "the way its source moves"],
    ]}
    onpick={(v) => set("Direction", "start.direction", v)}
  />
  <ParameterField target={at("start.spread_rad")} />
  {#if !("flow" in schedule)}
    <ParameterField target={at("start.speed_m_s")} />
  {/if}
  <ParameterField target={at("start.speed_variation")} />
  <ParameterField target={at("start.inherited_velocity")} />
  <ParameterField target={at("start.lifespan_s")} />
  {#if start.lifespan_s !== null}
    <ParameterField target={at("start.lifespan_variation")} />
  {/if}
  {#if !particles.liquid}
    <ParameterField target={at("start.size_m")} />
    <ParameterField target={at("start.size_variation")} />
  {/if}
  <ParameterField target={at("start.orientation_variation")} />
  <ParameterField target={at("start.angular_speed_rad_s")} />
  {#if start.angular_speed_rad_s}
    <ParameterField target={at("start.angular_speed_variation")} />
  {/if}
</Section>
