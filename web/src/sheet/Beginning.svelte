<script lang="ts">
  // The frame of the run that the shot begins from.
  import { api } from "../api/client";
  import Section from "../fields/Section.svelte";
  import { notices } from "../state/notices.svelte";
  import { playback } from "../state/playback.svelte";
  import { shot } from "../state/shot.svelte";

  let beginning = $derived(shot.document?.initial_state);
  let there = $derived(playback.stateOf(playback.frame) !== "missing" && playback.frame > playback.first);

  async function begin(frame: number | null, velocities: boolean) {
    const id = shot.id;
    if (id === null) return;
    await shot.settled;
    const state = await notices.attempt(() => api.beginFrom(id, frame, velocities));
    if (!state) return;
    shot.take(state);
    if (frame !== null) playback.go(playback.first);
  }
</script>

<Section title="Beginning" note={beginning ? `as in ${beginning.asset}` : "as placed"}>
  {#if beginning}
    <p class="mb-2 text-soft">
      Free bodies and particles begin where they were{beginning.velocities
        ? ", with their velocities."
        : ", at rest."}
    </p>
  {/if}
  <div class="flex flex-wrap gap-2">
    <button class="btn" disabled={!there} onclick={() => begin(playback.frame, false)}
      >From frame {playback.frame}, at rest</button
    >
    <button class="btn" disabled={!there} onclick={() => begin(playback.frame, true)}>with velocities</button>
    {#if beginning}<button class="btn" onclick={() => begin(null, false)}>As placed</button>{/if}
  </div>
</Section>
