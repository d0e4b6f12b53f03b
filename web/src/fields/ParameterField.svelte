<script lang="ts">
  // The field of a value as the shot's description declares it. What is given besides goes before that.
  import ColourField from "./ColourField.svelte";
  import NumberField from "./NumberField.svelte";
  import SwitchField from "./SwitchField.svelte";
  import VectorField from "./VectorField.svelte";
  import { declared } from "../state/declared";
  import type { Target } from "../state/target";
  import { values } from "../state/values.svelte";

  interface Props {
    target: Target;
    label?: string;
    unit?: string;
    scale?: number;
    /** Shown where there is no value. */
    blank?: string;
    /** Without its name before it. */
    bare?: boolean;
    /** Whether the shot stores it, rather than another value in its place: then `computed` is shown, and
     * `oncommit` stores it. */
    stored?: boolean;
    computed?: number;
    oncommit?: (value: number) => unknown;
  }
  let {
    target,
    label,
    unit,
    scale,
    blank,
    bare = false,
    stored = true,
    computed,
    oncommit,
  }: Props = $props();

  let declaration = $derived.by(() => {
    const found = declared(target.path);
    if (!found) throw new Error(`${target.path} is not a declared value`);
    return found;
  });
  let name = $derived(label ?? declaration.label);
  let shown = $derived({
    unit: unit ?? declaration.unit ?? "",
    scale: scale ?? declaration.scale ?? 1,
    step: declaration.step,
    whole: declaration.kind.startsWith("whole"),
    fixed: !declaration.keyed,
    least: declaration.kind.startsWith("whole") || !declaration.keyed ? declaration.low : undefined,
  });
  /** The parts of a vector that are values of their own: those of two numbers. */
  let split = $derived(declaration.kind === "vector" && declaration.parts?.length === 2);

  function clear() {
    if (declaration.keyed) return values.set(target, name, null);
    return values.assign(target, name, null);
  }
</script>

{#if declaration.kind === "switch"}
  <SwitchField label={name} {target} />
{:else if declaration.colour}
  <ColourField label={name} {target} {bare} blank={declaration.default as number[] | undefined} />
{:else if split}
  {#each declaration.parts! as part, i (part)}
    <NumberField label={`${name} ${part}`} {...shown} target={{ ...target, path: `${target.path}[${i}]` }} />
  {/each}
{:else if declaration.kind.endsWith("vector")}
  <VectorField label={name} {...shown} parts={declaration.parts ?? ["x", "y", "z"]} {target} />
{:else}
  <NumberField
    label={name}
    {...shown}
    {bare}
    slide={bare ? undefined : (declaration.slide as [number, number] | undefined)}
    blank={blank ?? declaration.blank}
    target={stored ? target : undefined}
    value={computed ?? (declaration.default as number | undefined)}
    {oncommit}
    onclear={declaration.blank !== undefined ? clear : undefined}
  />
{/if}
