<script lang="ts">
  import ParameterField from "../fields/ParameterField.svelte";
  import type { Element } from "../api/client";
  import AimSection from "./AimSection.svelte";
  import ChannelList from "./ChannelList.svelte";
  import Section from "../fields/Section.svelte";
  import { groupsIn } from "../state/groups";
  import { selection } from "../state/selection.svelte";
  import { shot } from "../state/shot.svelte";

  let { element }: { element: Element } = $props();
  const at = (path: string) => ({ element, ids: selection.with(element.id), path });
</script>

<Section title="Placement" note={element.attached ? "relative to what it is attached to" : ""}>
  <ParameterField target={at("placement.position_m")} />
  <ParameterField target={at("placement.orientation_rad")} />
</Section>
{#if !("camera" in element.kind)}<AimSection {element} />{/if}
<Section title="Groups">
  <input
    class="field w-full"
    aria-label="Groups"
    placeholder="none; part names by commas"
    value={(element.groups ?? []).join(", ")}
    onchange={(event) =>
      shot.set(`Groups of ${element.name}`, selection.ids, "/groups", groupsIn(event.currentTarget.value))}
  />
</Section>
<ChannelList {element} />
