<script lang="ts">
  import type { Vector } from "../api/client";
  import NumberField from "./NumberField.svelte";

  interface Props {
    label: string;
    value: Vector | number[];
    unit?: string;
    scale?: number;
    step?: number;
    parts?: string[];
    disabled?: boolean;
    whole?: boolean;
    /** Gets the change of one part, to be made on the value as it is by then. */
    oncommit: (change: (old: unknown) => Vector) => unknown;
  }
  let {
    label,
    value,
    unit = "",
    scale = 1,
    step = 0.1,
    parts = ["x", "y", "z"],
    disabled = false,
    whole = false,
    oncommit,
  }: Props = $props();

  function set(part: number, number: number) {
    const shown = [...value];
    return oncommit((old) => (Array.isArray(old) ? [...old] : shown).with(part, number) as Vector);
  }
</script>

<div class="grid min-h-[27px] grid-cols-[108px_1fr] items-center gap-2">
  <span
    >{label}
    {#if unit}<small class="text-faint">{unit}</small>{/if}</span
  >
  <div class="grid gap-1" style:grid-template-columns={`repeat(${parts.length}, 1fr)`}>
    {#each parts as part, i (part)}
      <NumberField
        bare
        {disabled}
        label={`${label} ${part}`}
        {scale}
        {step}
        {whole}
        value={value[i]}
        oncommit={(v) => set(i, v)}
      />
    {/each}
  </div>
</div>
