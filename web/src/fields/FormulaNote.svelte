<script lang="ts">
  import { api, type Schemas } from "../api/client";
  import { playback } from "../state/playback.svelte";
  import { shot } from "../state/shot.svelte";
  import type { Target } from "../state/target";

  /** What a formula gives, or what is wrong with it and where, while it is typed. */
  let { target, typed, value }: { target: Target; typed: string; value?: number } = $props();
  let told = $state.raw<Schemas["FormulaValue"] | null>(null);

  $effect(() => {
    const id = shot.id;
    const asked = {
      element: target.element?.id ?? null,
      path: target.path,
      expression: typed,
      frame: playback.frame,
    };
    if (id === null || typed === "") {
      told = null;
      return;
    }
    let current = true;
    const timer = setTimeout(() => {
      void api
        .formula(id, asked)
        .then((answer) => current && (told = answer))
        .catch(() => undefined);
    }, 120);
    return () => {
      current = false;
      clearTimeout(timer);
    };
  });

  const short = (number: number) => Number(number.toPrecision(5));
</script>

{#if told?.fault}
  <p class="order-last col-span-full mt-0.5 text-coral" role="alert">
    {#if told.position != null}<code class="block overflow-hidden text-[11px] whitespace-pre text-soft"
        >{typed}<br />{" ".repeat(told.position)}<b class="text-coral">^</b></code
      >{/if}
    {told.fault}
  </p>
{:else if told?.value != null || value !== undefined}
  <p class="order-last col-span-full mt-0.5 text-faint">
    gives {short(told?.value ?? value ?? 0)} at this frame
  </p>
{/if}
