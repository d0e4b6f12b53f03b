<script lang="ts">
  import Search from "@lucide/svelte/icons/search";
  import Undo from "@lucide/svelte/icons/undo-2";
  import Redo from "@lucide/svelte/icons/redo-2";
  import CheckList from "./CheckList.svelte";
  import HistoryMenu from "./HistoryMenu.svelte";
  import Jobs from "./Jobs.svelte";
  import RenderDialog from "./RenderDialog.svelte";
  import { commands, keepRun, shownKeys, type CommandName } from "../state/commands.svelte";
  import { desk } from "../state/desk.svelte";
  import { films } from "../state/films.svelte";
  import { jobs } from "../state/jobs.svelte";
  import { playback } from "../state/playback.svelte";
  import { route, type View } from "../state/route.svelte";
  import { shot } from "../state/shot.svelte";

  let document = $derived(route.shot === null ? null : shot.document);
  const keys = (name: CommandName) => shownKeys(commands.named(name));
  const find = `Find (${keys("Find a command, element or value")})`;
  const views: [View, string][] = [
    ["desk", "Desk"],
    ["runs", "Runs"],
    ["dailies", "Dailies"],
  ];
</script>

<header class="relative flex items-center gap-3 border-b border-line bg-panel px-3.5">
  <div class="flex min-w-0 items-center gap-3 min-[1200px]:max-w-[calc(50vw-130px)]">
    <button class="flex flex-none items-center gap-2" onclick={() => route.home()} aria-label="All shots">
      <svg
        class="h-[22px] w-[22px] text-lime"
        viewBox="0 0 24 24"
        fill="none"
        stroke="currentColor"
        aria-hidden="true"
        ><ellipse cx="12" cy="15" rx="10.5" ry="4.2" opacity=".35" /><ellipse
          cx="12"
          cy="15"
          rx="6.6"
          ry="2.6"
          opacity=".65"
        /><ellipse cx="12" cy="15" rx="2.8" ry="1.1" /><path
          d="M12 2.5c1.9 2.6 2.8 4.2 2.8 5.6a2.8 2.8 0 1 1-5.6 0c0-1.4.9-3 2.8-5.6Z"
          fill="currentColor"
          stroke="none"
        /></svg
      >
    </button>
    <span
      class="-ml-1 text-[13px] whitespace-nowrap {document && jobs.list.length
        ? 'hidden min-[1200px]:inline'
        : ''}"
      >{#if document}{shot.state?.project} <span class="mx-1 text-faint">/</span>{:else}<b>Bright Ripple</b
        >{/if}</span
    >
    {#if document}
      <h1 class="-ml-2 min-w-12 truncate text-[13px] font-[650]">{document.name}</h1>
      <!-- Jobs take the place of the facts and end in dots where there is no room, so that nothing else moves. -->
      {#if jobs.list.length}
        <div class="flex min-w-0 gap-2"><Jobs /></div>
      {:else}
        {#each [`${document.picture.width} × ${document.picture.height}`, `${document.timing.fps} fps`, `${document.timing.first} – ${document.timing.last}`] as fact (fact)}
          <span
            class="hidden flex-none rounded-full border border-line px-2.5 py-0.5 whitespace-nowrap text-soft min-[1200px]:inline"
            >{fact}</span
          >
        {/each}
      {/if}
    {/if}
  </div>
  {#if document}
    <nav
      class="flex flex-none gap-0.5 rounded-[9px] bg-ground p-[3px] min-[1200px]:absolute min-[1200px]:left-1/2 min-[1200px]:-translate-x-1/2"
      aria-label="Views"
    >
      {#each views as [view, name] (view)}
        <a
          href={`#/shot/${route.shot}/${view}`}
          class="rounded-[7px] px-3.5 py-1 text-soft aria-[current=page]:bg-raised aria-[current=page]:font-semibold aria-[current=page]:text-ink"
          aria-current={route.view === view ? "page" : undefined}>{name}</a
        >
      {/each}
    </nav>
    <span class="flex-1"></span>
    <CheckList />
    <div class="flex">
      <button
        class="btn px-2"
        disabled={!shot.state?.undo}
        title={shot.state?.undo ? `Undo “${shot.state.undo}” (${keys("Undo")})` : "Nothing to undo"}
        aria-label="Undo"
        onclick={() => shot.undo()}><Undo size={15} /></button
      >
      <button
        class="btn px-2"
        disabled={!shot.state?.redo}
        title={shot.state?.redo ? `Redo “${shot.state.redo}” (${keys("Redo")})` : "Nothing to redo"}
        aria-label="Redo"
        onclick={() => shot.redo()}><Redo size={15} /></button
      >
      <HistoryMenu />
    </div>
    <button class="btn px-2" aria-label="Find" title={find} onclick={() => (desk.finder = true)}
      ><Search size={15} /></button
    >
    <button class="btn" disabled={!playback.freshness?.frame_bytes} onclick={keepRun}>Keep run</button>
    <button class="btn btn-go" onclick={() => (films.asking = true)}>Render…</button>
    <RenderDialog />
  {:else}
    <span class="flex-1"></span>
    <Jobs />
    <button class="btn px-2" aria-label="Find" title={find} onclick={() => (desk.finder = true)}
      ><Search size={15} /></button
    >
  {/if}
</header>
