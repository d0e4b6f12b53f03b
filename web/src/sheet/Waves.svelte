<script lang="ts">
  // The number of waves along a held cloth, over the frames of the run.
  import Plot from "./Plot.svelte";
  import Section from "../fields/Section.svelte";
  import { api, type Element, type Schemas } from "../api/client";
  import { answered } from "../state/asking";
  import { playback } from "../state/playback.svelte";
  import { solidOf } from "../state/shot.svelte";

  let { element }: { element: Element } = $props();
  let track = $state.raw<Schemas["WaveTrack"] | null>(null);
  let held = $derived(
    (solidOf(element)?.cloth?.pins ?? []).some(
      ({ part }) => "side" in part || "corners" in part || "point" in part,
    ),
  );

  $effect(() => {
    void playback.changes;
    const run = playback.freshness?.run;
    if (run === undefined || playback.computing || playback.running || !held) return;
    return answered(api.waves(run, element.id), (found) => (track = found));
  });
  let now = $derived(track ? track.waves[track.frames.indexOf(playback.frame)] : undefined);
</script>

{#if held && track && track.frames.length > 1}
  <Section title="Waves along it" note={now === undefined ? "" : `${now.toFixed(1)} at this frame`}>
    <Plot
      frames={track.frames}
      lines={[{ name: "waves", values: track.waves, colour: "var(--solid)" }]}
      at={playback.frame}
    />
  </Section>
{/if}
