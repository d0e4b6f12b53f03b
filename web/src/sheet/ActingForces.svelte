<script lang="ts">
  import { api, type Element, type Schemas } from "../api/client";
  import Section from "../fields/Section.svelte";
  import { playback } from "../state/playback.svelte";
  import { selection } from "../state/selection.svelte";
  import { shot } from "../state/shot.svelte";

  /** The forces on the first body of an element at the frame shown. */
  let { element }: { element: Element } = $props();
  let list = $state.raw<Schemas["ActingForce"][]>([]);

  $effect(() => {
    void shot.state?.revision;
    void playback.changes;
    const [id, of, frame] = [shot.id, element.id, playback.frame];
    if (id === null || playback.running) return;
    void api
      .acting(id, of, frame)
      .then((found) => of === element.id && frame === playback.frame && (list = found))
      .catch(() => undefined);
  });

  const size = (v: number[]) => Math.hypot(...v);
  const newtons = (v: number) => `${Number(v.toPrecision(3))} N`;
</script>

{#if list.length > 0}
  <Section title="What acts on it" note={`frame ${playback.frame}`}>
    <table class="w-full">
      <tbody>
        {#each list as force (force.force)}
          <tr class:text-faint={force.weight === 0}>
            <td class="py-0.5"
              ><button class="underline decoration-line" onclick={() => selection.only(force.force)}
                >{force.name}</button
              ></td
            >
            <td class="text-right">{force.weight < 1 ? `${(100 * force.weight).toFixed(0)} %` : ""}</td>
            <td class="w-[84px] text-right" title={force.newtons.map((v) => v.toFixed(2)).join(", ")}
              >{newtons(size(force.newtons))}</td
            >
          </tr>
        {/each}
      </tbody>
    </table>
  </Section>
{/if}
