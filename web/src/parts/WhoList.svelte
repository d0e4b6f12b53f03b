<script lang="ts">
  // Elements, groups and kinds to tick.
  import type { Schemas } from "../api/client";
  import Tick from "./Tick.svelte";

  type Who = Schemas["Who"];
  interface Props {
    offered: [Who, string][];
    chosen: Who[];
    onchange: (chosen: Who[]) => unknown;
  }
  let { offered, chosen, onchange }: Props = $props();
  const key = (who: Who) => JSON.stringify(who);
  const ticked = (who: Who) => chosen.some((other) => key(other) === key(who));
  const toggle = (who: Who) =>
    onchange(ticked(who) ? chosen.filter((other) => key(other) !== key(who)) : [...chosen, who]);
</script>

{#each offered as [who, name] (key(who))}
  <Tick label={name} checked={ticked(who)} onchange={() => toggle(who)} />
{/each}
