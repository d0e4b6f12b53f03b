<script lang="ts">
  // What was measured at the frame shown.
  import { measured } from "../state/measured.svelte";
  import { performing } from "../state/performing.svelte";
  import { playback } from "../state/playback.svelte";
  import { shot, solidOf } from "../state/shot.svelte";
  import { shown } from "../state/shown.svelte";

  $effect(() => {
    void playback.changes;
    measured.refresh();
  });

  // With particles alone there is nothing to tell of bodies.
  let moves = $derived(
    shot.elements.some((e) => solidOf(e) && solidOf(e)?.body?.moves !== "still") ||
      !shot.elements.some((e) => "particles" in e.kind),
  );

  let words = $derived.by(() => {
    const state = playback.stateOf(playback.source(playback.frame));
    const run = measured.run;
    const at = measured.at(playback.source(playback.frame));
    const words = [`frame ${playback.frame}`];
    const { oneParticleOf, coarseMeshes } = shown.thinning;
    const thinned = [
      ...(oneParticleOf > 1 ? [`1 of ${oneParticleOf} particles drawn`] : []),
      ...(coarseMeshes > 0
        ? [coarseMeshes === 1 ? "a mesh drawn coarser" : `${coarseMeshes} meshes drawn coarser`]
        : []),
    ];
    if (performing.frame) return `${words[0]} · performing`;
    // What was measured is told of computed frames, and those lie elsewhere.
    if (playback.finished)
      return [
        words[0],
        state === "fresh"
          ? "finished"
          : state === "stale"
            ? "finished from stale frames"
            : "made of frames not computed yet",
        ...thinned,
      ].join(" · ");
    if (playback.frame !== playback.first)
      words.push(state === "fresh" ? "computed" : state === "stale" ? "stale" : "not computed yet");
    if (run && at >= 0 && state !== "missing") {
      const particles = run.particles.reduce((sum, of) => sum + (of.alive[at] ?? 0), 0);
      if (run.particles.length > 0) words.push(`${particles.toLocaleString("en")} particles`);
      if (moves) {
        words.push(`${run.contacts[at]} contacts`);
        words.push(`deepest overlap ${(1e3 * run.deepest_overlap_m[at]).toFixed(1)} mm`);
        const fastest = shot.element(run.fastest[at]);
        if (fastest) words.push(`fastest ${fastest.name}, ${run.max_speed_m_s[at].toFixed(1)} m/s`);
        words.push(`energy ${Math.round(run.kinetic_j[at] + run.potential_j[at])} J`);
      }
    }
    return [...words, ...thinned].join(" · ");
  });
</script>

<p
  class="pointer-events-none absolute bottom-2 left-3 rounded bg-[#12181ab8] px-2 py-0.5 text-[#d5dedc]"
  data-testid="reading"
>
  {words}
</p>
