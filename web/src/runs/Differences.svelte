<script lang="ts">
  // Which values differ between a run's shot and the shot as it is now.
  import { api, type Schemas } from "../api/client";
  import { shot } from "../state/shot.svelte";

  let { run, name }: { run: number; name: string } = $props();
  const SHOWN = 5;
  let list = $state.raw<Schemas["RunDifference"][] | null>(null);
  let all = $state(false);
  let shown = $derived(all ? (list ?? []) : (list ?? []).slice(0, SHOWN));
  let asked = 0;

  $effect(() => {
    void shot.state?.revision;
    const turn = ++asked;
    void api
      .differences(run)
      .then((found) => turn === asked && (list = found))
      .catch(() => undefined);
  });
</script>

{#if list?.length === 0}
  <p class="text-soft">Computed from the shot as it is.</p>
{:else if list}
  <table class="w-full text-left" aria-label={`What differs in ${name}`}>
    <thead class="text-faint">
      <tr>
        <th class="font-normal">Value</th>
        <th class="w-[76px] pl-2 text-right font-normal">This run</th>
        <th class="w-[76px] pl-2 text-right font-normal">Now</th>
      </tr>
    </thead>
    <tbody>
      {#each shown as difference (difference.value)}
        <tr class="border-t border-line/50 align-top">
          <td>{difference.value}</td>
          {#if difference.run != null || difference.now != null}
            <td class="pl-2 text-right">{difference.run ?? "none"}</td>
            <td class="pl-2 text-right text-lime">{difference.now ?? "none"}</td>
          {:else}
            <td class="pl-2 text-right text-soft" colspan="2">changed</td>
          {/if}
        </tr>
      {/each}
    </tbody>
  </table>
  {#if list.length > SHOWN}
    <button class="mt-1 min-h-6 text-soft underline" onclick={() => (all = !all)}
      >{all ? "Fewer" : `${list.length - SHOWN} more`}</button
    >
  {/if}
{/if}
