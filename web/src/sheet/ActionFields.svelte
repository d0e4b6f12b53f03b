<script lang="ts">
  // The values of an action: what particles become.
  import type { Element } from "../api/client";
  import NumberField from "../fields/NumberField.svelte";
  import Picker from "../fields/Picker.svelte";
  import Tick from "../fields/Tick.svelte";
  import { receivers, type Action } from "../state/particles";
  import { named, options } from "../state/options";
  import { shot } from "../state/shot.svelte";
  import { values } from "../state/values.svelte";

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
  <NumberField label="A second" step={5} target={at("trail.per_s")} />
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
  <NumberField label="Speed" unit="m/s" step={0.1} target={at("split.speed_m_s")} />
  <NumberField label="± speed" step={0.05} slide={[0, 1]} target={at("split.speed_variation")} />
  <NumberField
    label="Spread"
    unit="°"
    scale={180 / Math.PI}
    step={1}
    slide={[0, 180]}
    target={at("split.spread_rad")}
  />
  <NumberField label="Of its motion" step={0.05} slide={[0, 1]} target={at("split.inherited_velocity")} />
  <NumberField label="Spin" unit="rad/s" step={0.5} target={at("split.angular_speed_rad_s")} />
  <NumberField
    label="Size"
    step={0.05}
    blank="as they are born"
    target={at("split.size")}
    onclear={() => values.set(at("split.size"), "Size", null)}
  />
  <Tick
    label="It goes on itself"
    checked={action.split.stays === true}
    onchange={(checked) => set("Outcome", "split/stays", checked)}
  />
{/if}
