<script lang="ts">
  import ParameterField from "../fields/ParameterField.svelte";
  import Tick from "../fields/Tick.svelte";
  import { api, type ChoiceOf, type Element, type Schemas } from "../api/client";
  import Unreturned from "./Unreturned.svelte";
  import type { FinishOperation } from "../state/finishing";
  import { notices } from "../state/notices.svelte";
  import { percent } from "../state/numbers";
  import { playback } from "../state/playback.svelte";
  import { shot } from "../state/shot.svelte";
  import type { Target } from "../state/target";
  import { values } from "../state/values.svelte";

  interface Props {
    element: Element;
    loop: ChoiceOf<FinishOperation, "loop">;
    at: (path: string) => Target;
  }
  let { element, loop, at }: Props = $props();

  let found = $state.raw<Schemas["LoopSeam"] | null>(null);
  let asked = 0;
  $effect(() => {
    void playback.changes;
    const id = shot.id;
    const step = element.id;
    const turn = ++asked;
    if (id === null) return;
    const [least, most] = [Math.max(2, Math.round(loop.frames / 2)), loop.frames * 2];
    // Frames may be missing: there is no seam to tell then.
    void api
      .loops(id, step, least, most)
      .then((answer) => turn === asked && (found = answer))
      .catch(() => turn === asked && (found = null));
  });

  /** The frame that the first one would follow as the next, as it was computed. */
  let seamFrame = $derived(loop.from_frame + loop.frames);
  let ghosts = $derived(playback.ghostFrame !== null);
  // What was shown is of the loop as it was.
  $effect(() => {
    void seamFrame;
    return () => (playback.ghostFrame = null);
  });

  /** Takes a loop that is offered, without blending. */
  function take(offer: Schemas["LoopOffer"]) {
    const { from_frame, frames } = offer;
    void values.assign(at("operation.loop"), "Loop", { from_frame, frames, overlap: 0 });
    notices.say(`Loop of ${frames} frames from frame ${from_frame}.`);
  }
</script>

<ParameterField target={at("operation.loop.frames")} />
<ParameterField target={at("operation.loop.from_frame")} />
<ParameterField target={at("operation.loop.overlap")} />
{#if loop.overlap}
  <Tick label="A fresh copy of the first frame fades in" target={at("operation.loop.first_stands")} />
{/if}
{#if found?.seam}
  <p class="mt-2 text-soft" data-testid="seam">
    Seam {percent(found.seam.position)} a frame's motion, {percent(found.seam.velocity)} of the speed{loop.overlap
      ? ", before it is blended"
      : ""}.
  </p>
{/if}
<Unreturned ids={found?.unreturned ?? []} />
{#if found?.seam}
  <button
    class="btn mt-2"
    aria-pressed={ghosts}
    title="The frame after the last, over the first"
    onclick={() => {
      playback.ghostFrame = ghosts ? null : seamFrame;
      if (!ghosts) playback.go(playback.first);
    }}>{ghosts ? "Hide the seam" : "Show the seam"}</button
  >
{/if}
{#if found && found.offers.length > 0}
  <h3 class="mt-3 mb-1 font-[650] text-soft">Frames most alike</h3>
  <ul aria-label="Loops offered">
    {#each found.offers as offer (`${offer.from_frame}/${offer.frames}`)}
      <li>
        <button
          class="flex w-full justify-between rounded px-1.5 py-0.5 text-left hover:bg-raised"
          onclick={() => take(offer)}
          ><span>{offer.from_frame}–{offer.from_frame + offer.frames - 1}</span>
          <span class="text-soft">{offer.frames} frames, seam {percent(offer.seam.position)}</span></button
        >
      </li>
    {/each}
  </ul>
{/if}
