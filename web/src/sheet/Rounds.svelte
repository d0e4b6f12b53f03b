<script lang="ts">
  // The rounds of a shot that goes round: how nearly each meets itself.
  import { api, type Schemas } from "../api/client";
  import Unreturned from "./Unreturned.svelte";
  import { showRound } from "../state/finishing";
  import { percent } from "../state/numbers";
  import { playback } from "../state/playback.svelte";
  import { shot } from "../state/shot.svelte";

  let { length }: { length: number } = $props();

  let rounds = $state.raw<Schemas["LoopRound"][]>([]);
  let asked = 0;
  $effect(() => {
    void playback.changes;
    void length;
    const id = shot.id;
    const turn = ++asked;
    if (id === null) return;
    // Frames may be missing: there are no rounds to tell then.
    void api
      .rounds(id)
      .then((answer) => turn === asked && (rounds = answer))
      .catch(() => turn === asked && (rounds = []));
  });
  let last = $derived(rounds[rounds.length - 1]);
  const words = (round: Schemas["LoopRound"]) =>
    round.seam
      ? `seam ${percent(round.seam.position)} of the motion, ${percent(round.seam.velocity)} of the speed`
      : "ends with other particles";
</script>

{#if rounds.length === 0}
  <p class="text-soft">
    Keys, noise and births repeat. Frames are computed until the state meets itself, up to the last frame.
  </p>
{:else}
  <ol class="mt-1 text-soft" aria-label="Rounds">
    {#each rounds as round, i (round.from_frame)}
      <li class="flex items-baseline justify-between gap-2 py-0.5">
        <span class={round.closes ? "text-ink" : ""}>
          {round.from_frame}–{round.from_frame + length - 1}
          <small class="ml-1">{words(round)}</small>
        </span>
        <button
          class="btn py-0"
          aria-label={`Show round ${i + 1}`}
          onclick={() => showRound(length, round.from_frame)}>Show</button
        >
      </li>
    {/each}
  </ol>
  {#if last.closes}
    <p class="mt-1" data-testid="closed">
      Frame {last.from_frame + length} would be frame {last.from_frame}: {length} frames go round.
    </p>
  {:else}
    <Unreturned ids={last.unreturned} />
  {/if}
{/if}
