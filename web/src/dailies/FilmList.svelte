<script lang="ts">
  import { api, type Film } from "../api/client";
  import Confirm from "../app/Confirm.svelte";
  import { films } from "../state/films.svelte";
  import { bytes, spoken } from "../state/time";

  interface Props {
    film: Film | undefined;
    /** The frame shown. */
    frame: number;
    second: Film | undefined;
    mode: string;
    onchoose: (id: number) => void;
    onsecond: (id: number) => void;
  }
  let { film, frame, second, mode, onchoose, onsecond }: Props = $props();
  let doomed = $state.raw<Film | null>(null);
  let total = $derived(films.list.reduce((sum, f) => sum + f.bytes, 0));
  const words = (f: Film) =>
    f.state === "failed"
      ? `failed: ${f.message}`
      : f.state === "running"
        ? `frame ${f.done} of ${f.total}${f.seconds_left ? ` · ${spoken(f.seconds_left)} left` : ""}`
        : f.state === "stopped"
          ? `stopped at ${f.done} of ${f.total}`
          : `${f.total} ${f.total === 1 ? "frame" : "frames"} · ${bytes(f.bytes)}`;

  function remove(yes: boolean) {
    if (doomed && yes) void films.remove(doomed.id);
    doomed = null;
  }
</script>

<aside class="row-span-2 min-h-0 overflow-auto border-l border-line bg-panel p-3.5" aria-label="Films">
  <h2 class="text-[17px] font-[680]">Films</h2>
  <p class="mb-2.5 text-soft">{bytes(total)}</p>
  <ul class="grid gap-2">
    {#each films.list as f (f.id)}
      <li
        class="rounded-xl border bg-ground p-2.5"
        style:border-color={f.id === film?.id || (mode === "wipe" && f.id === second?.id)
          ? "var(--lime)"
          : "transparent"}
      >
        <button
          class="grid w-full grid-cols-[92px_1fr] gap-2.5 text-left"
          onclick={() => onchoose(f.id)}
          aria-pressed={f.id === film?.id}
        >
          {#if f.there.length > 0}<img
              class="aspect-video w-full rounded-md object-cover"
              src={api.filmFrame(f.id, f.there[0][0])}
              alt=""
            />{:else}<span class="aspect-video w-full rounded-md bg-raised"></span>{/if}
          <span>
            <b class="font-[650]">{f.name}</b><br />
            <span class="text-soft"
              >{f.settings.width} × {f.settings.height} · {f.settings.samples} samples<br />{words(
                f,
              )}{#if f.settings.finishing?.length}<br />finished: {f.settings.finishing.join(", ")}{/if}</span
            >
          </span>
        </button>
        {#if f.state === "running"}
          <div class="mt-1.5 h-1 overflow-hidden rounded bg-raised">
            <div class="h-full bg-aqua" style:width={`${(100 * f.done) / f.total}%`}></div>
          </div>
        {/if}
        <div class="mt-1.5 flex flex-wrap gap-3 text-soft">
          {#if f.state === "running"}
            <button class="underline" onclick={() => films.stop(f.id)}>Stop</button>
          {:else if f.done < f.total || f.state === "failed"}
            <button class="text-lime underline" onclick={() => films.resume(f.id)}>Go on</button>
          {/if}
          {#if f.there.length > 0}
            {@const number =
              f.id === film?.id && f.there.some(([a, b]) => a <= frame && frame <= b) ? frame : f.there[0][0]}
            <a class="underline" href={api.filmFrame(f.id, number)} download={`${f.name} ${number}.png`}
              >PNG</a
            >
            {#if f.settings.exr}
              <a class="underline" href={api.filmLinear(f.id, number)} download={`${f.name} ${number}.exr`}
                >EXR</a
              >
            {/if}
          {/if}
          {#if f.state === "done" && f.total > 1}
            <a class="underline" href={api.movie(f.id)} download={`${f.name}.mp4`}>MP4</a>
            <a class="underline" href={api.filmFrames(f.id)} download={`${f.name}.zip`}>All frames</a>
          {/if}
          {#if mode === "wipe" && f.id !== film?.id}<button class="underline" onclick={() => onsecond(f.id)}
              >Compare</button
            >{/if}
          <button class="ml-auto underline" aria-label={`Delete ${f.name}`} onclick={() => (doomed = f)}
            >Delete</button
          >
        </div>
      </li>
    {/each}
  </ul>
</aside>

<Confirm name={doomed?.name ?? null} label="Delete" what="Its frames go from the disk." onanswer={remove} />
