<script lang="ts">
  // Frame rate, range and loop length of the shot.
  import { api, type Schemas } from "../api/client";
  import Choice from "../fields/Choice.svelte";
  import NumberField from "../fields/NumberField.svelte";
  import Section from "../fields/Section.svelte";
  import Rounds from "./Rounds.svelte";
  import { notices } from "../state/notices.svelte";
  import { playback } from "../state/playback.svelte";
  import { shot } from "../state/shot.svelte";

  let timing = $derived(shot.document!.timing);
  /** What stays where it is when the rate changes. */
  let keep = $state<Schemas["TimeBase"]>("seconds");
  const set = (label: string, path: string, value: unknown) =>
    shot.edit(label, () => [{ op: "add", path, value }]);

  async function setRate(fps: number) {
    const id = shot.id;
    if (id === null) return;
    await shot.settled;
    const at = (playback.frame - playback.first) / timing.fps;
    const state = await notices.attempt(() => api.setFrameRate(id, fps, keep));
    if (!state) return;
    shot.take(state);
    await playback.refresh();
    if (keep === "seconds") playback.go(playback.first + at * fps);
  }
</script>

<Section title="Timing" note={`${((timing.last - timing.first + 1) / timing.fps).toFixed(2)} s`}>
  <NumberField label="Frame rate" unit="fps" step={1} value={timing.fps} oncommit={setRate} />
  <Choice
    label="New rate keeps"
    value={keep}
    options={[
      ["seconds", "seconds"],
      ["frames", "frames"],
    ]}
    onpick={(next) => (keep = next as Schemas["TimeBase"])}
  />
  <NumberField
    label="First frame"
    step={1}
    whole
    value={timing.first}
    oncommit={(v) => set("First frame changed", "/timing/first", v)}
  />
  <NumberField
    label="Last frame"
    step={1}
    whole
    value={timing.last}
    oncommit={(v) => set("Last frame changed", "/timing/last", v)}
  />
  <NumberField
    label="Goes round in"
    unit="frames"
    step={1}
    whole
    blank="does not"
    value={timing.loop_frames}
    oncommit={(v) => set("Loop length changed", "/timing/loop_frames", v)}
    onclear={() => set("Does not go round", "/timing/loop_frames", null)}
  />
  {#if timing.loop_frames}<Rounds length={timing.loop_frames} />{/if}
</Section>
