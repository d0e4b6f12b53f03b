<script lang="ts">
  // Elements, groups and kinds to tick.
  import type { Schemas } from "../api/client";
  import Tick from "./Tick.svelte";

  type ElementFilter = Schemas["ElementFilter"];
  interface Props {
    offered: [ElementFilter, string][];
    chosen: ElementFilter[];
    onchange: (chosen: ElementFilter[]) => unknown;
  }
  let { offered, chosen, onchange }: Props = $props();
  const key = (who: ElementFilter) => JSON.stringify(who);
  const ticked = (who: ElementFilter) => chosen.some((other) => key(other) === key(who));
  const toggle = (who: ElementFilter) =>
    onchange(ticked(who) ? chosen.filter((other) => key(other) !== key(who)) : [...chosen, who]);
</script>

{#each offered as [who, name] (key(who))}
  <Tick label={name} checked={ticked(who)} onchange={() => toggle(who)} />
{/each}
