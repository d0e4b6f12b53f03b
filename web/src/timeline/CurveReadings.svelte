<script lang="ts">
  // What stands beside a curve: its range, the numbers of the key that is chosen, its speed.
  import NumberField from "../fields/NumberField.svelte";
  import { nameOf } from "../state/channels";
  import type { Channel, Key, Value } from "../state/keys";
  import { partsOf } from "./grips";

  interface Props {
    path: string;
    channel: Channel;
    chosen: Key | undefined;
    range: [number, number];
    /** Change of the value in a second at the frame shown. */
    speed: number | null;
    /** Shown value = value × scale. */
    scale: number;
    unit: string;
    onchange: (change: Partial<Key>) => unknown;
  }
  let { path, channel, chosen, range, speed, scale, unit, onchange }: Props = $props();
  const round = (v: number) => Number((v * scale).toPrecision(4));
  const part = (value: Value, i: number) => (Array.isArray(value) ? ` ${"xyz"[i]}` : "");
</script>

<div class="relative min-w-0 overflow-hidden py-1.5 pr-2 pl-[26px] text-[12px]">
  <small class="absolute top-0.5 right-1.5 text-[10px] text-faint">{round(range[1])}</small>
  <small class="absolute right-1.5 bottom-0.5 text-[10px] text-faint">{round(range[0])}</small>
  <p class="mr-6 truncate">{nameOf(path)} <small class="text-faint">{unit}</small></p>
  {#if channel.expression != null}
    <p class="truncate text-aqua" title={channel.expression}>= {channel.expression}</p>
  {:else if chosen}
    {@const { value, frame } = chosen}
    <div class="mt-0.5 mr-6 grid grid-cols-4 gap-1">
      <NumberField
        bare
        label={`Frame of this ${nameOf(path).toLowerCase()} key`}
        step={1}
        value={frame}
        oncommit={(frame) => onchange({ frame })}
      />
      {#if typeof value !== "boolean"}
        {#each partsOf(value) as own, i (i)}
          <NumberField
            bare
            label={`${nameOf(path)}${part(value, i)} at this key`}
            {scale}
            step={0.05}
            value={own}
            oncommit={(v) => onchange({ value: (Array.isArray(value) ? value.with(i, v) : v) as Value })}
          />
        {/each}
      {/if}
    </div>
  {/if}
  {#if speed !== null}<p class="mt-0.5 text-faint">
      {Number((speed * scale).toPrecision(3))} a second
    </p>{/if}
</div>
