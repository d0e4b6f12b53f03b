<script lang="ts">
  import Section from "../fields/Section.svelte";
  import { playback } from "../state/playback.svelte";
  import { shot } from "../state/shot.svelte";

  /** Formats of one frame, and of a range, with their names. */
  const ONE = [
    ["obj", "OBJ"],
    ["glb", "GLB"],
    ["usdz", "USD"],
  ] as const;
  const RANGE = [
    ["glb", "GLB"],
    ["usdz", "USD"],
    ["abc", "Alembic"],
    ["zip", "numbered OBJ"],
  ] as const;
  const link = (format: string, first: number, last: number) =>
    `/api/shots/${shot.id}/meshes/${format}?first=${first}&last=${last}`;
  let frame = $derived(playback.frame);
  let there = $derived((playback.freshness?.frame_bytes ?? 0) > 0);
</script>

{#if there}
  <Section title="Hand on" note="visible solids, in metres">
    <p class="mb-1.5 text-[12px] text-dim">Frame {frame}</p>
    <div class="mb-2.5 flex flex-wrap gap-2">
      {#each ONE as [format, name] (format)}
        <a class="btn" download aria-label={`Frame ${frame} as ${name}`} href={link(format, frame, frame)}
          >{name}</a
        >
      {/each}
    </div>
    <p class="mb-1.5 text-[12px] text-dim">Frames {playback.first}–{playback.end}</p>
    <div class="flex flex-wrap gap-2">
      {#each RANGE as [format, name] (format)}
        <a
          class="btn"
          download
          aria-label={`Frames ${playback.first}–${playback.end} as ${name}`}
          href={link(format, playback.first, playback.end)}>{name}</a
        >
      {/each}
    </div>
  </Section>
{/if}
