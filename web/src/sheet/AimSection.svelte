<script lang="ts">
  import ParameterField from "../fields/ParameterField.svelte";
  import type { Element } from "../api/client";
  import Picker from "../fields/Picker.svelte";
  import Section from "../fields/Section.svelte";
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
    <ParameterField target={at("aim.damping_s")} />
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
    <ParameterField target={at("attached.along")} />
    <ParameterField target={at("attached.facing")} />
  {/if}
</Section>
