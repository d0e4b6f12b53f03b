<script lang="ts">
  import Thread from "./Thread.svelte";
  import type { Target } from "../state/target";
  import { values } from "../state/values.svelte";

  interface Props {
    label: string;
    /** A colour of the shot, scene-linear, that can be keyed. */
    target: Target;
    /** Shown where nothing is stored. */
    blank?: number[];
    /** Without its name before it. */
    bare?: boolean;
  }
  let { label, target, blank = [0, 0, 0], bare = false }: Props = $props();
  let value = $derived((values.get(target) as number[] | null | undefined) ?? blank);
  const oncommit = (next: [number, number, number]) => values.set(target, label, next);

  const encode = (v: number) => (v <= 0.0031308 ? 12.92 * v : 1.055 * v ** (1 / 2.4) - 0.055);
  const decode = (v: number) => (v <= 0.04045 ? v / 12.92 : ((v + 0.055) / 1.055) ** 2.4);
  let hex = $derived(
    "#" +
      value
        .map((v) =>
          Math.round(255 * encode(Math.min(1, Math.max(0, v))))
            .toString(16)
            .padStart(2, "0"),
        )
        .join(""),
  );

  function pick(event: Event & { currentTarget: HTMLInputElement }) {
    const code = parseInt(event.currentTarget.value.slice(1), 16);
    const part = (shift: number) => Number(decode(((code >> shift) & 255) / 255).toFixed(4));
    oncommit([part(16), part(8), part(0)]);
  }

  let differ = $derived(values.differ(target));
  const shown = (value: number[]) => value.map((v) => Number(v.toFixed(3))).join(" ");
  // As in NumberField: typing stays while other values change.
  let saved = $derived(differ ? "" : shown(value));
  let text = $derived(saved);

  /** Three numbers, red, green and blue. */
  function commit() {
    if (text === saved) return;
    const parts = text
      .trim()
      .split(/[\s,;]+/)
      .map(Number);
    if (parts.length === 3 && parts.every(Number.isFinite)) oncommit(parts as [number, number, number]);
    else text = saved;
  }
</script>

<div class={`threaded grid items-center gap-2 ${bare ? "" : "grid-cols-[108px_1fr]"}`}>
  {#if !bare}<span>{label}</span>{/if}
  <span class="flex min-w-0 items-center gap-2">
    <input
      type="color"
      class="h-6 w-10 flex-none rounded bg-ground"
      aria-label={label}
      value={hex}
      onchange={pick}
    />
    <input
      class="field w-full min-w-0 flex-1"
      aria-label={`${label}, red green blue`}
      placeholder={differ ? "differ" : ""}
      bind:value={text}
      onblur={commit}
      onkeydown={(event) => event.key === "Enter" && commit()}
    />
  </span>
  <Thread {label} {target} />
</div>
