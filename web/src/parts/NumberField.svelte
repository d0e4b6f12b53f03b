<script lang="ts">
  import { Slider } from "bits-ui";

  interface Props {
    label: string;
    value: number | null | undefined;
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
    oncommit: (value: number) => unknown;
    onclear?: () => unknown;
  }
  let {
    label,
    value,
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

  function shown(value: number | null | undefined): string {
    if (value === null || value === undefined) return "";
    return String(Number((value * scale).toPrecision(5)));
  }

  // Follows the value; typing goes ahead of it until it is committed. Two steps, so that a change
  // of the shot that leaves this value as it is leaves what is being typed.
  let saved = $derived(shown(value));
  let text = $derived(saved);
  let dragged = $state<number | null>(null);

  // The slider follows the value again once that has changed.
  $effect(() => {
    void value;
    dragged = null;
  });

  async function commit() {
    if (text.trim() === "" && onclear) {
      if (value !== null && value !== undefined) await onclear();
      return;
    }
    const number = Number(text.replace(",", "."));
    if (text.trim() === "" || !Number.isFinite(number)) {
      text = shown(value);
      return;
    }
    if (text === shown(value)) return;
    await oncommit(whole ? Math.round(number) : number / scale);
    // What was refused does not stay in the field.
    text = shown(value);
  }

  function press(event: KeyboardEvent & { currentTarget: HTMLInputElement }) {
    if (event.key === "Enter") void commit();
    if (event.key === "Escape") {
      text = shown(value);
      event.currentTarget.blur();
    }
    const by = event.key === "ArrowUp" ? 1 : event.key === "ArrowDown" ? -1 : 0;
    if (by === 0) return;
    event.preventDefault();
    const base = Number(text) || 0;
    text = String(Number((base + by * step * (event.shiftKey ? 10 : 1)).toPrecision(6)));
    void commit();
  }
</script>

{#snippet input()}
  <span class="field flex items-baseline gap-1" class:opacity-50={disabled}>
    <input
      class="w-full min-w-0 bg-transparent text-right outline-offset-4"
      inputmode="decimal"
      aria-label={unit ? `${label}, ${unit}` : label}
      placeholder={blank}
      {disabled}
      bind:value={text}
      onblur={commit}
      onkeydown={press}
    />
    {#if unit}<small class="whitespace-nowrap text-faint">{unit}</small>{/if}
  </span>
{/snippet}

{#if bare}
  {@render input()}
{:else}
  <div
    class="grid min-h-[27px] items-center gap-2"
    style:grid-template-columns={slide ? "108px 1fr 92px" : "108px 1fr"}
  >
    <span>{label}</span>
    {#if slide}
      <Slider.Root
        type="single"
        min={slide[0]}
        max={slide[1]}
        {step}
        {disabled}
        value={dragged ?? Math.min(slide[1], Math.max(slide[0], (value ?? 0) * scale))}
        onValueChange={(next: number) => {
          dragged = next;
          text = String(next);
        }}
        onValueCommit={(next: number) => {
          dragged = null;
          oncommit(next / scale);
        }}
        class="relative flex h-4 w-full touch-none items-center"
      >
        <span class="relative h-1 w-full overflow-hidden rounded bg-ground">
          <Slider.Range class="absolute h-full bg-solid" />
        </span>
        <Slider.Thumb index={0} aria-label={label} class="block h-3.5 w-1.5 rounded-sm bg-soft" />
      </Slider.Root>
    {/if}
    {@render input()}
  </div>
{/if}
