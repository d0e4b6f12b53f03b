<script lang="ts">
  // The values of an action: what particles become.
  import ParameterField from "../fields/ParameterField.svelte";
  import type { Element } from "../api/client";
  import NumberField from "../fields/NumberField.svelte";
  import Picker from "../fields/Picker.svelte";
  import Tick from "../fields/Tick.svelte";
  import { receivers, type Action } from "../state/particles";
  import { named, options } from "../state/options";
  import { shot } from "../state/shot.svelte";

  interface Props {
    element: Element;
    action: Action;
    /** Index of the event among those of the particles. */
    index: number;
  }
  let { element, action, index }: Props = $props();
  let particles = $derived(options((e) => "particles" in e.kind && e.id !== element.id));
  let bodies = $derived(named(receivers(shot.elements)));
  const at = (path: string) => ({
    element,
    ids: [element.id],
    path: `kind.particles.events.${index}.action.${path}`,
  });
  const set = (label: string, path: string, value: unknown) =>
    shot.set(
      `${label} of ${element.name}`,
      [element.id],
      `/kind/particles/events/${index}/action/${path}`,
      value,
    );
</script>

{#if "become" in action}
  <Picker
    label="Which"
    value={String(action.become.particles)}
    options={particles}
    onpick={(v) => set("Outcome", "become/particles", Number(v))}
  />
{:else if "solid" in action}
  <Picker
    label="Which"
    value={String(action.solid.solid)}
    options={bodies}
    onpick={(v) => set("Outcome", "solid/solid", Number(v))}
  />
{:else if "trail" in action}
  <Picker
    label="Which"
    value={String(action.trail.particles)}
    options={particles}
    onpick={(v) => set("Outcome", "trail/particles", Number(v))}
  />
  <ParameterField target={at("trail.per_s")} />
{:else if "split" in action}
  <Picker
    label="Into"
    value={action.split.particles == null ? "" : String(action.split.particles)}
    options={[["", "its own kind"], ...particles]}
    onpick={(v) => set("Outcome", "split/particles", v ? Number(v) : null)}
  />
  <NumberField
    label="Number"
    whole
    step={1}
    value={action.split.count ?? 6}
    oncommit={(v) => set("Number", "split/count", Math.max(1, v))}
  />
  <ParameterField target={at("split.speed_m_s")} />
  <ParameterField target={at("split.speed_variation")} />
  <ParameterField target={at("split.spread_rad")} />
  <ParameterField target={at("split.inherited_velocity")} />
  <ParameterField target={at("split.angular_speed_rad_s")} />
  <ParameterField target={at("split.size")} />
  <Tick
    label="It goes on itself"
    checked={action.split.stays === true}
    onchange={(checked) => set("Outcome", "split/stays", checked)}
  />
{/if}
