<script lang="ts">
  import type { Vector } from "../api/client";
  import Thread from "./Thread.svelte";
  import NumberField from "./NumberField.svelte";
  import type { Target } from "../state/target";
  import { values } from "../state/values.svelte";

  interface Props {
    label: string;
    value?: Vector | number[];
    /** A value of the shot that can be keyed; then nothing is committed here. */
    target?: Target;
    unit?: string;
    scale?: number;
    step?: number;
    parts?: string[];
    disabled?: boolean;
    whole?: boolean;
    /** The value is the same at every frame: it has no thread. */
    fixed?: boolean;
    /** Least number of each part. */
    least?: number;
    /** Gets the change of one part, to be made on the value as it is by then. */
    oncommit?: (change: (old: unknown) => Vector) => unknown;
  }
  let {
    label,
    value: given = [0, 0, 0],
    target,
    unit = "",
    scale = 1,
    step = 0.1,
    parts = ["x", "y", "z"],
    disabled = false,
    whole = false,
    fixed = false,
    least,
    oncommit,
  }: Props = $props();

  let value = $derived(((target ? values.get(target) : undefined) as Vector | null | undefined) ?? given);
  // Where nothing is stored yet, the whole is set with its first part.
  let stored = $derived(!target || values.get(target) != null);

  function set(part: number, number: number) {
    const shown = [...value];
    if (target && !stored) return values.set(target, label, shown.with(part, number) as Vector);
    return oncommit?.((old) => (Array.isArray(old) ? [...old] : shown).with(part, number) as Vector);
  }
</script>

<div class="grid min-h-[27px] grid-cols-[108px_1fr] items-center gap-2" class:threaded={target && !fixed}>
  <span class="flex items-center gap-1"
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
        {fixed}
        {least}
        value={value[i]}
        target={target && stored ? { ...target, path: `${target.path}[${i}]` } : undefined}
        keys={target && !fixed ? { label, target } : undefined}
        oncommit={(v) => set(i, v)}
      />
    {/each}
  </div>
  {#if target && !fixed}<Thread {label} {target} />{/if}
</div>
