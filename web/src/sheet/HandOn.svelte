<script lang="ts">
  import Section from "../fields/Section.svelte";
  import { playback } from "../state/playback.svelte";
  import { shot } from "../state/shot.svelte";

  const link = (format: string, first: number, last: number) =>
    `/api/shots/${shot.id}/meshes/${format}?first=${first}&last=${last}`;
  let frame = $derived(playback.frame);
  let there = $derived((playback.freshness?.frame_bytes ?? 0) > 0);
</script>

{#if there}
  <Section title="Hand on" note="visible solids, in metres">
    <div class="flex flex-wrap gap-2">
      <a class="btn" download href={link("obj", frame, frame)}>Frame {frame} as OBJ</a>
      <a class="btn" download href={link("glb", frame, frame)}>as GLB</a>
      <a class="btn" download href={link("glb", playback.first, playback.end)}
        >Frames {playback.first}–{playback.end} as GLB</a
      >
      <a class="btn" download href={link("zip", playback.first, playback.end)}>as numbered OBJ</a>
      <a class="btn" download href={link("usdz", playback.first, playback.end)}>as USD</a>
    </div>
  </Section>
{/if}
