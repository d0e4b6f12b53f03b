<script lang="ts">
  // The brush: what it does, how large, how strong and how soft it is.
  import Choice from "../fields/Choice.svelte";
  import NumberField from "../fields/NumberField.svelte";
  import { painting } from "../state/painting.svelte";

  const axes: [string, string][] = [
    ["none", "No"],
    ["0", "x"],
    ["1", "y"],
    ["2", "z"],
  ];
</script>

<div
  class="absolute bottom-3 left-1/2 w-[660px] -translate-x-1/2 rounded-lg bg-[#12181af0] px-3 py-2"
  role="group"
  aria-label="Brush"
>
  <div class="grid grid-cols-[1.3fr_1fr] gap-x-5">
    <Choice
      label="Stroke"
      value={painting.effect}
      options={[
        ["add", "Adds"],
        ["subtract", "Takes away"],
        ["smooth", "Evens out"],
      ]}
      onpick={(v) => (painting.effect = v as typeof painting.effect)}
    />
    <Choice
      label="Mirrored"
      value={painting.mirrored === null ? "none" : String(painting.mirrored)}
      options={axes}
      onpick={(v) => (painting.mirrored = v === "none" ? null : Number(v))}
    />
    <NumberField
      label="Size"
      unit="mm"
      scale={1000}
      step={10}
      slide={[10, 500]}
      value={painting.radius_m}
      oncommit={(v) => v > 0 && (painting.radius_m = v)}
    />
    <NumberField
      label="Strength"
      unit="%"
      scale={100}
      step={5}
      slide={[0, 100]}
      value={painting.strength}
      oncommit={(v) => (painting.strength = Math.min(1, Math.max(0, v)))}
    />
    <NumberField
      label="Soft edge"
      unit="%"
      scale={100}
      step={5}
      slide={[0, 100]}
      value={painting.softness}
      oncommit={(v) => (painting.softness = Math.min(1, Math.max(0, v)))}
    />
    <div class="flex items-center justify-between">
      <label class="flex items-center gap-2">
        <input type="checkbox" class="accent-[var(--lime)]" bind:checked={painting.through} />
        Hidden vertices too
      </label>
      <button class="btn" onclick={() => painting.end()}>Done painting</button>
    </div>
  </div>
</div>
