<script lang="ts">
  import type { Element } from "../api/client";
  import NumberField from "../fields/NumberField.svelte";
  import Picker from "../fields/Picker.svelte";
  import Section from "../fields/Section.svelte";
  import SwitchField from "../fields/SwitchField.svelte";
  import Tick from "../fields/Tick.svelte";
  import { attach } from "../state/attaching";
  import { named } from "../state/options";
  import { selection } from "../state/selection.svelte";
  import { shot } from "../state/shot.svelte";
  import { values } from "../state/values.svelte";

  let { element }: { element: Element } = $props();
  let others = $derived(shot.elements.filter((e) => e.id !== element.id && !("sky" in e.kind)));
  let choices = $derived(named(others));
  let base = $derived(others.find((e) => e.id === element.attached?.to));
  let keep = $state(true);
  const at = (path: string) => ({ element, ids: selection.with(element.id), path });
  // An element is not aimed at itself.
  const aim = (to: number) => (old: object | null) => ({ ...old, target: to });
  const aimed = (to: string) => ({ ...at("aim"), ids: at("aim").ids.filter((id) => String(id) !== to) });
</script>

<Section title="Aim">
  <Picker
    label="Aimed at"
    value={element.aim ? String(element.aim.target) : ""}
    options={[["", "its own turn"], ...choices]}
    target={at("aim.target")}
    onpick={(v) => values.assign(aimed(v), "Aim", v ? aim(Number(v)) : null)}
  />
  {#if element.aim}
    <NumberField label="Follows late by" unit="s" step={0.05} target={at("aim.damping_s")} />
  {/if}
</Section>
<Section title="Attachment">
  <Picker
    label="Attached to"
    value={element.attached ? String(element.attached.to) : ""}
    options={[["", "nothing"], ...choices]}
    onpick={(v) => attach(element, v ? Number(v) : null, keep)}
  />
  <Tick label="It stays where it is" bind:checked={keep} />
  {#if element.attached && base && "curve" in base.kind}
    <NumberField
      label="Along the curve"
      step={0.01}
      slide={[0, 1]}
      blank="at its origin"
      target={at("attached.along")}
      onclear={() => values.assign(at("attached.along"), "Attachment", null)}
    />
    <SwitchField label="It turns with the curve" target={at("attached.facing")} />
  {/if}
</Section>
