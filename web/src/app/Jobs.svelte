<script lang="ts">
  import X from "@lucide/svelte/icons/x";
  import { jobs, type Job } from "../state/jobs.svelte";
  import { notices } from "../state/notices.svelte";
  import { route } from "../state/route.svelte";
  import { spoken } from "../state/time";
  import { viewFilm } from "../state/viewFilm.svelte";

  /** Work on another shot says which. */
  const label = (job: Job) =>
    job.shot === route.shot ? job.label : `${job.label} ${jobs.nameOf(job.shot)}`.trim();

  const words = (job: Job) =>
    `${label(job)} ${job.done} of ${job.total}${job.secondsLeft ? ` · ${spoken(job.secondsLeft)} left` : ""}`;
</script>

{#each jobs.list as job (`${job.shot} ${job.film} ${job.finishing} ${job.comparing}`)}
  <div
    class="flex min-w-12 items-center gap-2 rounded-full border border-line py-0.5 pr-1 pl-2.5 text-soft"
    role="status"
    title={words(job)}
  >
    <span class="truncate tabular-nums">{words(job)}</span>
    <span class="hidden h-1 w-12 flex-none overflow-hidden rounded bg-ground xl:block"
      ><span class="block h-full bg-aqua" style:width={`${(100 * job.done) / Math.max(1, job.total)}%`}
      ></span></span
    >
    {#if !job.finishing}
      <button
        class="flex-none rounded-full p-0.5 hover:bg-raised"
        aria-label={`Stop: ${label(job)}`}
        onclick={() => notices.attempt(() => jobs.stop(job))}><X size={13} /></button
      >
    {/if}
  </div>
{/each}
{#if viewFilm.progress}
  <div
    class="flex min-w-12 items-center gap-2 rounded-full border border-line py-0.5 pr-1 pl-2.5 text-soft"
    role="status"
  >
    <span class="truncate tabular-nums">Drawing {viewFilm.progress.done} of {viewFilm.progress.total}</span>
    <button
      class="flex-none rounded-full p-0.5 hover:bg-raised"
      aria-label="Stop: Drawing"
      onclick={() => viewFilm.stop()}><X size={13} /></button
    >
  </div>
{/if}
