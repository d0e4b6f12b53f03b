<script lang="ts">
  import { Slider } from "bits-ui";
  import { shownNumber } from "./number";
  import FormulaNote from "./FormulaNote.svelte";
  import Thread from "./Thread.svelte";
  import { performing } from "../state/performing.svelte";
  import type { Target } from "../state/target";
  import { values } from "../state/values.svelte";

  interface Props {
    label: string;
    value?: number | null;
    /** A value of the shot that can be keyed or follow a formula; then nothing is committed here. */
    target?: Target;
    /** The value is the same at every frame: it has no thread and no formula. */
    fixed?: boolean;
    /** Least number that can be typed. */
    least?: number;
    /** What K keys, where this field is a part of more. */
    keys?: { label: string; target: Target };
    unit?: string;
    /** Shown value = value × scale. */
    scale?: number;
    step?: number;
    /** Ends of the slider, as shown; without them there is none. */
    slide?: [number, number];
    whole?: boolean;
    /** Shown where there is no value. */
    blank?: string;
    disabled?: boolean;
    bare?: boolean;
    oncommit?: (value: number) => unknown;
    onclear?: () => unknown;
  }
  let {
    label,
    value: given,
    target,
    fixed = false,
    least = -Infinity,
    keys = target && !fixed ? { label, target } : undefined,
    unit = "",
    scale = 1,
    step = 0.1,
    slide,
    whole = false,
    blank = "",
    disabled = false,
    bare = false,
    oncommit,
    onclear,
  }: Props = $props();

  /** What the shot stores; null: explicitly none, so that the default does not count. */
  let stored = $derived(target ? (values.get(target) as number | null | undefined) : undefined);
  let value = $derived(stored === undefined ? given : stored);
  let how = $derived(target ? values.how(target) : "constant");
  let formula = $derived(target && how === "formula" ? values.channel(target)?.expression : null);

  const shown = (value: number | null | undefined) => shownNumber(value, scale, bare);
  let differ = $derived(target !== undefined && values.differ(target));
  const settled = () => (formula != null ? `= ${formula}` : differ ? "" : shown(value));

  /** What is being typed; it goes ahead of the value until that is changed elsewhere. */
  let draft = $state<string | null>(null);
  let text = $derived(draft ?? settled());
  /** The value as this field saves it: what is typed while that is under way stays. */
  let own: string | null = null;
  $effect(() => {
    if (settled() !== own) draft = null;
  });
  let dragged = $state<number | null>(null);
  let typed = $derived(!fixed && text.trimStart().startsWith("=") ? text.trimStart().slice(1).trim() : null);

  // The slider follows the value again once that has changed.
  $effect(() => {
    void value;
    dragged = null;
  });

  function save(next: number) {
    if (!target) return oncommit?.(next);
    // A value that cannot be keyed is not performed either.
    return fixed ? values.assign(target, label, next) : values.set(target, label, next);
  }

  /** What is being saved: leaving the field meanwhile, perhaps for another frame, does not save it again. */
  let pending: string | null = null;

  async function commit() {
    const blankOut = text.trim() === "" && onclear;
    const number = text.trim() !== "" && Number.isFinite(Number(text.replace(",", ".")));
    if (text === settled() || !(number || blankOut || (target && typed !== null))) draft = null;
    if (draft === null || draft === pending) return;
    const storing = (pending = draft);
    const stays = await store();
    if (pending === storing) pending = null;
    // What was refused does not stay in the field; what is typed meanwhile does.
    if (!stays && draft === storing) draft = null;
  }

  /** Saves what was typed; gives whether it is wrong in a way that it stays in the field for. */
  async function store(): Promise<boolean> {
    if (target && typed !== null) {
      // A formula that is wrong stays in the field, with what is wrong below it.
      const saved = await values.setFormula(target, label, typed === "" ? null : typed);
      return typed !== "" && !saved;
    }
    if (text.trim() === "" && onclear) {
      if (value !== null && value !== undefined) await onclear();
      return false;
    }
    const number = Number(text.replace(",", "."));
    const next = Math.max(least, whole ? Math.round(number) : number / scale);
    own = shown(next);
    await save(next);
    return false;
  }

  function press(event: KeyboardEvent & { currentTarget: HTMLInputElement }) {
    if (event.key === "Enter") void commit();
    if (event.key === "Escape") {
      draft = null;
      event.currentTarget.blur();
    }
    // What is typed is what K keys; with nothing typed the thread keys the value as it is.
    if (event.key.toLowerCase() === "k" && keys && draft !== null && typed === null) {
      event.preventDefault();
      event.stopPropagation();
      const { target, label } = keys;
      void commit().then(() => values.how(target) !== "here" && values.key(target, label));
    }
    const by = event.key === "ArrowUp" ? 1 : event.key === "ArrowDown" ? -1 : 0;
    if (by === 0 || typed !== null) return;
    event.preventDefault();
    const base = Number(differ && draft === null ? shown(value) : text) || 0;
    draft = String(Number((base + by * step * (event.shiftKey ? 10 : 1)).toPrecision(6)));
    void commit();
  }
</script>

{#snippet input()}
  <span class="field flex items-baseline gap-1" class:px-1!={bare} class:opacity-50={disabled}>
    <input
      class="w-full min-w-0 bg-transparent outline-offset-4"
      class:text-right={typed === null}
      inputmode={target && !fixed ? "text" : "decimal"}
      aria-label={unit ? `${label}, ${unit}` : label}
      title={how === "keyed" ? "Keyed: typing sets a key at this frame" : undefined}
      placeholder={differ ? "differ" : blank}
      {disabled}
      bind:value={() => text, (typed) => (draft = typed)}
      onblur={commit}
      onkeydown={press}
    />
    {#if unit && typed === null && (text !== "" || (!blank && !differ) || /\d/.test(blank))}<small
        class="whitespace-nowrap text-faint">{unit}</small
      >{/if}
  </span>
{/snippet}

{#if bare}
  {@render input()}
  {#if target && typed !== null}<FormulaNote {target} {typed} value={value ?? undefined} />{/if}
{:else}
  <div
    class="grid min-h-[27px] items-center gap-2"
    class:threaded={target && !fixed}
    style:grid-template-columns={slide && typed === null ? "108px 1fr 92px" : "108px 1fr"}
  >
    <span>{label}</span>
    {#if slide && typed === null}
      <Slider.Root
        type="single"
        min={slide[0]}
        max={slide[1]}
        {step}
        {disabled}
        value={dragged ?? Math.min(slide[1], Math.max(slide[0], (value ?? 0) * scale))}
        onValueChange={(next: number) => {
          dragged = next;
          draft = String(next);
          if (!target) return;
          if (performing.on) performing.hold(target, next / scale);
          else values.try(target, next / scale);
        }}
        onValueCommit={async (next: number) => {
          dragged = null;
          await save(next / scale);
          if (target) values.try(target, null);
        }}
        class="relative flex h-4 w-full touch-none items-center"
      >
        <span class="relative h-1 w-full overflow-hidden rounded bg-ground">
          <Slider.Range class="absolute h-full bg-solid" />
        </span>
        <Slider.Thumb index={0} aria-label={label} class="thumb" />
      </Slider.Root>
    {/if}
    {@render input()}
    {#if target && !fixed}<Thread {label} {target} />{/if}
  </div>
  {#if target && typed !== null}<FormulaNote {target} {typed} value={value ?? undefined} />{/if}
{/if}
