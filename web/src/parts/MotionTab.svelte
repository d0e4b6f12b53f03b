<script lang="ts">
  import type { Element, Vector } from "../api/client";
  import NumberField from "./NumberField.svelte";
  import Picker from "./Picker.svelte";
  import Section from "./Section.svelte";
  import VectorField from "./VectorField.svelte";
  import { playback } from "../state/playback.svelte";
  import { shot } from "../state/shot.svelte";

  let { element }: { element: Element } = $props();
  type Key = { frame: number; value: Vector; then?: string };
  const parts = [
    { part: "place_m", name: "Place", unit: "m", scale: 1, step: 0.05 },
    { part: "turn_rad", name: "Turn", unit: "°", scale: 180 / Math.PI, step: 5 },
  ] as const;

  const keysOf = (part: "place_m" | "turn_rad"): Key[] | null => {
    const param = element.placement[part];
    return Array.isArray(param) ? null : ((param as { keys: Key[] }).keys ?? null);
  };
  const set = (label: string, part: string, value: unknown) =>
    shot.set(`${label} of ${element.name}`, [element.id], `/placement/${part}`, value);

  /** The value at the frame shown: for a key there it is the key's, else the last one before. */
  function now(part: "place_m" | "turn_rad"): Vector {
    const keys = keysOf(part);
    if (!keys) return element.placement[part] as unknown as Vector;
    return (keys.findLast((key) => key.frame <= playback.frame) ?? keys[0]).value;
  }

  function change(part: "place_m" | "turn_rad", name: string, value: Vector) {
    const keys = keysOf(part);
    if (!keys) return set(name, part, value);
    return key(part, name, value);
  }

  function key(part: "place_m" | "turn_rad", name: string, value: Vector) {
    const keys = (keysOf(part) ?? []).filter((key) => key.frame !== playback.frame);
    const next = [...keys, { frame: playback.frame, value }].sort((a, b) => a.frame - b.frame);
    return set(`${name} keyed`, part, { keys: next });
  }

  function unkey(part: "place_m" | "turn_rad", name: string, frame: number) {
    const keys = keysOf(part) ?? [];
    const left = keys.filter((key) => key.frame !== frame);
    return set(`Key of ${name.toLowerCase()} removed`, part, left.length ? { keys: left } : keys[0].value);
  }

  function edit(part: "place_m" | "turn_rad", name: string, index: number, change: Partial<Key>) {
    const keys = (keysOf(part) ?? []).map((key, i) => (i === index ? { ...key, ...change } : key));
    return set(`${name} keyed`, part, { keys: keys.sort((a, b) => a.frame - b.frame) });
  }
</script>

{#each parts as { part, name, unit, scale, step } (part)}
  {@const keys = keysOf(part)}
  <Section title={name} note={keys ? `${keys.length} keys` : ""}>
    <VectorField
      label={name}
      {unit}
      {scale}
      {step}
      value={now(part)}
      oncommit={(v) => change(part, name, v)}
    />
    <button class="btn my-1" onclick={() => key(part, name, now(part))}>Key at frame {playback.frame}</button>
    {#each keys ?? [] as at, i (at.frame)}
      <div class="mt-1 rounded-md bg-ground/60 px-2 py-1">
        <div class="flex items-center gap-2">
          <NumberField
            bare
            label={`Frame of ${name.toLowerCase()} key ${i + 1}`}
            step={1}
            value={at.frame}
            oncommit={(v) => edit(part, name, i, { frame: v })}
          />
          <button class="text-soft underline" onclick={() => playback.go(at.frame)}>Go</button>
          <span class="flex-1"></span>
          <button class="text-soft underline" onclick={() => unkey(part, name, at.frame)}>Remove</button>
        </div>
        <Picker
          label="Then"
          value={at.then ?? "linear"}
          options={[
            ["hold", "hold"],
            ["linear", "linear"],
            ["smooth", "smooth"],
          ]}
          onpick={(v) => edit(part, name, i, { then: v })}
        />
      </div>
    {/each}
  </Section>
{/each}
