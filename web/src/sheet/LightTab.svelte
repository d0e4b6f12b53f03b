<script lang="ts">
  import ParameterRows from "../fields/ParameterRows.svelte";
  import ParameterField from "../fields/ParameterField.svelte";
  import type { Element } from "../api/client";
  import Section from "../fields/Section.svelte";
  import { SKY } from "../state/addables";
  import { values } from "../state/values.svelte";
  import { selection } from "../state/selection.svelte";

  let { element }: { element: Element } = $props();
  let kind = $derived(element.kind);
  const at = (path: string) => ({ element, ids: selection.with(element.id), path: `kind.${path}` });
</script>

{#if "sun" in kind}
  <Section title="Sun" note="shines along its own −y">
    <ParameterRows target={at("sun")} />
  </Section>
{:else if "sky" in kind}
  <Section title="Sky">
    <ParameterField target={at("sky.strength")} />
    {#if "gradient" in kind.sky.source}
      <ParameterRows target={at("sky.source.gradient")} />
      <p class="mt-1 text-soft">Drop an EXR or HDR image in the Viewport to use it as the sky.</p>
    {:else}
      <p class="text-soft">From the image “{kind.sky.source.image.asset}”.</p>
      <button class="btn mt-1" onclick={() => values.assign(at("sky.source"), "Sky", SKY)}
        >Use a gradient</button
      >
    {/if}
  </Section>
{:else if "area_light" in kind}
  <Section title="Area light" note="shines along its own −y">
    <ParameterRows target={at("area_light")} />
  </Section>
{/if}
