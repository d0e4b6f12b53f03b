<script lang="ts">
  // The values of a trigger: when something becomes of particles, or of bodies that came from them.
  import ParameterField from "../fields/ParameterField.svelte";
  import type { Element, Schemas } from "../api/client";
  import ElementFilterList from "../fields/ElementFilterList.svelte";
  import NumberField from "../fields/NumberField.svelte";
  import Picker from "../fields/Picker.svelte";
  import type { Trigger } from "../state/particles";
  import { options } from "../state/options";
  import { shot } from "../state/shot.svelte";
  import { pointer } from "../state/target";

  interface Props {
    element: Element;
    trigger: Trigger;
    /** Where the trigger lies in the element, such as `kind.particles.events.0.trigger`. */
    path: string;
  }
  let { element, trigger, path }: Props = $props();
  let regions = $derived(options((e) => "region" in e.kind));
  let solids = $derived<[Schemas["ElementFilter"], string][]>(
    shot.elements.filter((e) => "solid" in e.kind).map((e) => [e.id, e.name]),
  );
  const at = (part: string) => ({ element, ids: [element.id], path: `${path}.${part}` });
  const set = (label: string, part: string, value: unknown) =>
    shot.set(`${label} of ${element.name}`, [element.id], `${pointer(path)}/${part}`, value);
</script>

{#if "age" in trigger}
  <ParameterField target={at("age.age_s")} />
{:else if "touch" in trigger}
  <ParameterField target={at("touch.speed_m_s")} />
  <ElementFilterList
    offered={solids}
    chosen={trigger.touch.bodies ?? []}
    onchange={(next) => set("Touched bodies", "touch/bodies", next)}
  />
{:else if "region" in trigger}
  <Picker
    label="Region"
    value={String(trigger.region.region)}
    options={regions}
    onpick={(v) => set("Region", "region/region", Number(v))}
  />
{:else if "faster" in trigger}
  <ParameterField target={at("faster.speed_m_s")} />
{:else if "slower" in trigger}
  <ParameterField target={at("slower.speed_m_s")} />
{:else if "frame" in trigger}
  <NumberField
    label="Frame"
    whole
    step={1}
    value={trigger.frame.frame}
    oncommit={(v) => set("Moment", "frame/frame", Math.max(0, v))}
  />
{:else if "count" in trigger}
  <NumberField
    label="Count"
    whole
    step={100}
    value={trigger.count.count}
    oncommit={(v) => set("Moment", "count/count", Math.max(1, v))}
  />
{/if}
