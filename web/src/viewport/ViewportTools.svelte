<script lang="ts">
  // The views, and the tools at the Viewport's edge.
  import ArrowDownToLine from "@lucide/svelte/icons/arrow-down-to-line";
  import Boxes from "@lucide/svelte/icons/boxes";
  import Dots from "@lucide/svelte/icons/circle-dot-dashed";
  import Grid from "@lucide/svelte/icons/grid-3x3";
  import Move from "@lucide/svelte/icons/move-3d";
  import PanelBottom from "@lucide/svelte/icons/panel-bottom";
  import Rotate from "@lucide/svelte/icons/rotate-3d";
  import Scan from "@lucide/svelte/icons/scan-search";
  import CutIcon from "@lucide/svelte/icons/square-split-horizontal";
  import Wind from "@lucide/svelte/icons/wind";
  import type { Component } from "svelte";
  import AddMenu from "./AddMenu.svelte";
  import type { ViewName } from "./eye";
  import { commands, shownKeys, type CommandName } from "../state/commands.svelte";
  import { desk } from "../state/desk.svelte";
  import { notices } from "../state/notices.svelte";
  import { particlesOf, shot } from "../state/shot.svelte";

  let views = $derived<[ViewName, string][]>([
    ["camera", shot.elements.find((e) => e.id === shot.document?.camera)?.name ?? "Camera"],
    ["free", "Free"],
    ["top", "Top"],
    ["front", "Front"],
    ["side", "Side"],
  ]);

  let flows = $derived(shot.elements.some((element) => particlesOf(element)?.liquid != null));
  let tools = $derived<{ name: CommandName; icon: Component<{ size: number }>; on?: boolean }[]>([
    { name: "Move handles", icon: Move, on: desk.handle === "move" },
    { name: "Turn handles", icon: Rotate, on: desk.handle === "turn" },
    { name: "Snap to the floor", icon: PanelBottom, on: desk.floor },
    { name: "Snap to 0.1 m steps", icon: Grid, on: desk.step !== null },
    { name: "Drop to rest", icon: ArrowDownToLine },
    { name: "Look at the selection", icon: Scan },
    { name: "Show collision shapes", icon: Boxes, on: desk.collision },
    { name: "Show what forces do", icon: Wind, on: desk.probe },
    { name: "Show tracer dots", icon: Dots, on: desk.tracers },
    ...(flows ? [{ name: "Cut through liquids" as const, icon: CutIcon, on: desk.cut !== null }] : []),
  ]);

  function run(name: CommandName) {
    const command = commands.named(name);
    if (commands.can(command)) command.run();
    else notices.say("Select an element first.");
  }

  function title(name: CommandName): string {
    const keys = shownKeys(commands.named(name));
    return keys ? `${name} (${keys})` : name;
  }
</script>

<div class="absolute top-2.5 left-3 flex gap-1" role="group" aria-label="View">
  {#each views as [key, name] (key)}
    <button
      class="rounded-full bg-[#12181ae0] px-2.5 py-[3px] text-[#c3d0ce] aria-pressed:text-white aria-pressed:outline aria-pressed:outline-[#8fa3a1]"
      aria-pressed={desk.view === key}
      onclick={() => (desk.view = key)}>{name}</button
    >
  {/each}
</div>
<div
  class="absolute top-2.5 right-3 flex max-h-[calc(100%-20px)] flex-col flex-wrap-reverse gap-1"
  role="toolbar"
  aria-label="Viewport tools"
  aria-orientation="vertical"
>
  <AddMenu />
  {#each tools as tool (tool.name)}
    <button
      class="grid h-7 w-7 place-items-center rounded-lg bg-[#12181ae0] text-[#c3d0ce] aria-pressed:bg-[#c9f26b] aria-pressed:text-[#17200a]"
      aria-label={tool.name}
      aria-pressed={tool.on}
      title={title(tool.name)}
      onclick={() => run(tool.name)}><tool.icon size={15} /></button
    >
  {/each}
</div>
