<script lang="ts">
  import type { Element } from "../api/client";
  import NumberField from "./NumberField.svelte";
  import Picker from "./Picker.svelte";
  import Section from "./Section.svelte";
  import VectorField from "./VectorField.svelte";
  import { keysOf, setAt, valueAt, withChange, withKey, withoutKey } from "../state/keys";
  import { playback } from "../state/playback.svelte";
  import { shot } from "../state/shot.svelte";

  let { element }: { element: Element } = $props();
  const parts = [
    { part: "place_m", name: "Place", unit: "m", scale: 1, step: 0.05 },
    { part: "turn_rad", name: "Turn", unit: "°", scale: 180 / Math.PI, step: 5 },
  ] as const;

  const set = (label: string, part: string, value: unknown) =>
    shot.set(`${label} of ${element.name}`, [element.id], `/placement/${part}`, value);
</script>

{#each parts as { part, name, unit, scale, step } (part)}
  {@const param = element.placement[part]}
  {@const keys = keysOf(param)}
  {@const now = valueAt(param, playback.frame)}
  <Section title={name} note={keys ? `${keys.length} keys` : ""}>
    <VectorField
      label={name}
      {unit}
      {scale}
      {step}
      value={now}
      oncommit={(change) =>
        set(keys ? `${name} keyed` : name, part, (old: unknown) =>
          setAt(old, playback.frame, change(valueAt(old, playback.frame))),
        )}
    />
    <button
      class="btn my-1"
      onclick={() => set(`${name} keyed`, part, (old: unknown) => withKey(old, playback.frame, now))}
      >Key at frame {playback.frame}</button
    >
    {#each keys ?? [] as at, i (at.frame)}
      <div class="mt-1 rounded-md bg-ground/60 px-2 py-1">
        <div class="flex items-center gap-2">
          <NumberField
            bare
            label={`Frame of ${name.toLowerCase()} key ${i + 1}`}
            step={1}
            value={at.frame}
            oncommit={(v) => set(`${name} keyed`, part, (old: unknown) => withChange(old, i, { frame: v }))}
          />
          <button class="text-soft underline" onclick={() => playback.go(at.frame)}>Go</button>
          <span class="flex-1"></span>
          <button
            class="text-soft underline"
            onclick={() =>
              set(`Key of ${name.toLowerCase()} removed`, part, (old: unknown) => withoutKey(old, at.frame))}
            >Remove</button
          >
        </div>
        <Picker
          label="Then"
          value={at.then ?? "linear"}
          options={[
            ["hold", "hold"],
            ["linear", "linear"],
            ["smooth", "smooth"],
          ]}
          onpick={(v) => set(`${name} keyed`, part, (old: unknown) => withChange(old, i, { then: v }))}
        />
      </div>
    {/each}
  </Section>
{/each}
