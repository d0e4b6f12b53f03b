<script lang="ts">
  // What was measured at the frame shown.
  import { api, type MeasuredRun } from "../api/client";
  import { playback } from "../state/playback.svelte";
  import { shot } from "../state/shot.svelte";

  let measured = $state.raw<MeasuredRun | null>(null);

  $effect(() => {
    void playback.changes;
    const run = playback.freshness?.run;
    if (run !== undefined && !playback.running && !playback.computing)
      void api
        .measured(run)
        .then((found) => (measured = found))
        .catch(() => undefined);
  });

  let words = $derived.by(() => {
    const state = playback.stateOf(playback.frame);
    const at = measured?.frames.indexOf(playback.frame) ?? -1;
    const words = [`frame ${playback.frame}`];
    if (playback.frame !== playback.first)
      words.push(state === "fresh" ? "computed" : state === "stale" ? "stale" : "not computed yet");
    if (measured && at >= 0 && state !== "missing") {
      words.push(`${measured.contacts[at]} contacts`);
      words.push(`deepest overlap ${(1e3 * measured.deepest_overlap_m[at]).toFixed(1)} mm`);
      const fastest = shot.element(measured.fastest[at]);
      if (fastest) words.push(`fastest ${fastest.name}, ${measured.fastest_m_s[at].toFixed(1)} m/s`);
      words.push(`energy ${Math.round(measured.kinetic_j[at] + measured.potential_j[at])} J`);
    }
    return words.join(" · ");
  });
</script>

<p
  class="pointer-events-none absolute bottom-2 left-3 rounded bg-[#12181ab8] px-2 py-0.5 text-[#d5dedc]"
  data-testid="reading"
>
  {words}
</p>
