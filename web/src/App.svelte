<script lang="ts">
  import { shown } from "./state/shown.svelte";
  import { onMount } from "svelte";
  import { Tooltip } from "bits-ui";
  import { Events, type Told } from "./api/client";
  import Finder from "./app/Finder.svelte";
  import ImageDialog from "./app/ImageDialog.svelte";
  import Notices from "./app/Notices.svelte";
  import TopBar from "./app/TopBar.svelte";
  import { commands } from "./state/commands.svelte";
  import { films } from "./state/films.svelte";
  import { jobs } from "./state/jobs.svelte";
  import { notices } from "./state/notices.svelte";
  import { performing } from "./state/performing.svelte";
  import { playback } from "./state/playback.svelte";
  import { route } from "./state/route.svelte";
  import { selection } from "./state/selection.svelte";
  import { shot } from "./state/shot.svelte";
  import { values } from "./state/values.svelte";
  import Dailies from "./dailies/Dailies.svelte";
  import Desk from "./app/Desk.svelte";
  import Home from "./home/Home.svelte";
  import Runs from "./runs/Runs.svelte";

  $effect(() => {
    const id = route.shot;
    if (id === null || id === shot.id) return;
    selection.none();
    void shot.open(id).then(() => {
      playback.reset();
      void films.refresh();
    });
  });

  let revision = $derived(shot.state?.revision);
  $effect(() => {
    if (revision !== undefined) void playback.refresh();
  });

  $effect(() => {
    void revision;
    void playback.frame;
    if (performing.state === "off") void values.refresh();
  });

  function told(told: Told) {
    jobs.take(told);
    if (told.what === "resync") {
      void shot.refresh().then(() => playback.refresh());
      void films.refresh();
      return;
    }
    if (told.shot !== shot.id) return;
    if (told.what === "shot" && told.revision !== shot.state?.revision) void shot.refresh();
    if (told.what === "frame") playback.computed(told.frame, told.last, told.seconds_left);
    if (told.what === "bake_ended") {
      playback.computing = null;
      if (told.message) notices.say(`Computing stopped: ${told.message}`, { grave: true });
      void playback.refresh();
    }
    if (told.what === "runs") playback.changes++;
    if (told.what === "film") films.progress(told);
    if (told.what === "films") void films.refresh();
  }

  let events = $state.raw<Events | null>(null);
  onMount(() => {
    const made = new Events(told, (run, message) => playback.received(run, message));
    events = made;
    return () => made.end();
  });
  $effect(() => events?.watch(route.shot, shown.part));
</script>

<svelte:window onkeydown={(event) => commands.press(event)} />

<Tooltip.Provider delayDuration={500}>
  <div class="grid h-full grid-cols-[minmax(0,1fr)] grid-rows-[46px_minmax(0,1fr)]">
    <TopBar />
    {#if route.shot === null}
      <Home />
    {:else if shot.document === null}
      <main class="grid place-items-center text-soft">Opening the shot…</main>
    {:else if route.view === "desk"}
      <Desk />
    {:else if route.view === "runs"}
      <Runs />
    {:else}
      <Dailies />
    {/if}
  </div>
  <ImageDialog />
  <Finder />
  <Notices />
</Tooltip.Provider>
