<script lang="ts">
  // Which size of the liquids is enough: three are computed and compared in the gate.
  import Section from "../fields/Section.svelte";
  import { api, type Schemas } from "../api/client";
  import { answered } from "../state/asking";
  import { apartWords, spacingWords, verdict, withSpacings } from "../state/enough";
  import { jobs } from "../state/jobs.svelte";
  import { notices } from "../state/notices.svelte";
  import { forecastWords } from "../state/resolution";
  import { shot } from "../state/shot.svelte";

  let job = $derived(jobs.list.find((job) => job.shot === shot.id && job.comparing));
  let known = $state.raw<Schemas["ComparisonState"] | null>(null);
  $effect(() => {
    void shot.state?.revision;
    // Asked again when one begins or ends.
    if (job !== undefined) return;
    return answered(api.comparison(shot.id!), (found) => (known = found));
  });
  let found = $derived(job || !known ? null : known.result);
  let frames = $derived(shot.document ? shot.document.timing.last - shot.document.timing.first + 1 : 0);

  const begin = () => notices.attempt(() => api.compareSizes(shot.id!));
  const use = (size: Schemas["Size"]) =>
    void shot.edit(`Spacing of ${spacingWords(size)}`, ({ elements }) => withSpacings(elements, size.factor));
</script>

<Section title="Enough?" note="sizes compared in the gate">
  {#if job}
    <p class="text-soft" role="status">Frame {job.done} of {job.total}, of three sizes.</p>
    <button class="btn mt-1" onclick={() => notices.attempt(() => jobs.stop(job))}>Stop</button>
  {:else}
    {#if found}
      <ol class="text-soft" aria-label="Sizes">
        {#each found.sizes as size, i (size.factor)}
          <li class="flex items-baseline justify-between gap-2 py-0.5">
            <span class={i === found.enough ? "text-ink" : ""}>
              {spacingWords(size)}{i === found.enough ? ": enough" : ""}
              <small class="block">{size.particles.toLocaleString("en")} particles. {apartWords(size)}</small>
              <small class="block text-faint">{forecastWords(size.seconds_a_frame, frames)}</small>
            </span>
            {#if size.factor !== 1 && !known?.outdated}
              <button class="btn py-0" aria-label={`Use ${spacingWords(size)}`} onclick={() => use(size)}
                >Use</button
              >
            {/if}
          </li>
        {/each}
      </ol>
      <p class="mt-1" data-testid="enough">{verdict(found)}</p>
      {#if known?.outdated}<p class="text-faint">The shot has changed since.</p>{/if}
    {:else if known?.message}
      <p class="text-warn">{known.message}</p>
    {/if}
    <button class="btn mt-1" onclick={begin}>{found ? "Compare again" : "Compare three sizes"}</button>
  {/if}
</Section>
