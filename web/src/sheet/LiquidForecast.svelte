<script lang="ts">
  // How many particles a liquid has at most, and what they take.
  import { api, type Element, type Schemas } from "../api/client";
  import { answered } from "../state/asking";
  import { forecastWords } from "../state/resolution";
  import { shot } from "../state/shot.svelte";
  import { bytes } from "../state/time";

  let { element }: { element: Element } = $props();
  let facts = $state.raw<Schemas["LiquidFacts"] | null>(null);
  $effect(() => {
    void shot.state?.revision;
    return answered(api.liquidFacts(shot.id!, element.id), (found) => (facts = found));
  });
  let frames = $derived(shot.document ? shot.document.timing.last - shot.document.timing.first : 0);
</script>

{#if facts}
  <p class={facts.too_many ? "text-warn" : "text-faint"} data-testid="forecast-of-liquid">
    About {facts.particles.toLocaleString("en")} particles{#if facts.too_many}: too many. Give it a larger
      spacing.{:else},
      {facts.voxels.toLocaleString("en")} voxels, {bytes(facts.bytes)} at work. {forecastWords(
        facts.seconds_a_frame,
        frames,
      )}{/if}
  </p>
{/if}
