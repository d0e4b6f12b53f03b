<script lang="ts">
  // Elements, groups and kinds to tick.
  import type { Schemas } from "../api/client";

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
  <label class="flex items-center gap-2 py-0.5">
    <input type="checkbox" class="accent-[var(--lime)]" checked={ticked(who)} onchange={() => toggle(who)} />
    {name}
  </label>
{/each}
