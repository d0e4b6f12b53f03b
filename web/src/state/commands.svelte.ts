// Every command: what the finder lists and the keys do.
import { api } from "../api/client";
import { addables } from "./addables";
import { add, addText } from "./adding";
import { desk } from "./desk.svelte";
import { films } from "./films.svelte";
import { marks } from "./marks.svelte";
import { notices } from "./notices.svelte";
import { performing, playOrPerform } from "./performing.svelte";
import { playback } from "./playback.svelte";
import { route } from "./route.svelte";
import { selection } from "./selection.svelte";
import { shot } from "./shot.svelte";
import { addTurntable } from "./turntable";

export type CommandName =
  | "Copy the chosen keys"
  | "Paste keys at this frame"
  | "Keys a frame earlier"
  | "Keys a frame later"
  | "Mirror the chosen keys"
  | "Repeat the chosen keys"
  | "Constant speed through the chosen keys"
  | "Add a turntable camera"
  | "Add text as a curve"
  | "Show what forces do"
  | "Show tracer dots"
  | "Cut through liquids"
  | "Find a command, element or value"
  | "Play or pause"
  | "Perform by hand"
  | "Stop computing"
  | "One frame on"
  | "One frame back"
  | "To the first frame"
  | "To the last frame"
  | "Drop all frames of this run"
  | "Keep run"
  | "Render…"
  | "Undo"
  | "Redo"
  | "Duplicate"
  | "Delete"
  | "Drop to rest"
  | "Look at the selection"
  | "Hide or show"
  | "Lock or unlock"
  | "See through or solid"
  | "Show the selection alone, or all again"
  | "Select all solids"
  | "Select nothing"
  | "Move handles"
  | "Turn handles"
  | "Snap to the floor"
  | "Snap to 0.1 m steps"
  | "Show collision shapes"
  | "View from the camera"
  | "View free"
  | "View from the top"
  | "View from the front"
  | "View from the side"
  | "Open the Desk"
  | "Open the runs"
  | "Open Dailies"
  | "All shots"
  | "Day or dusk theme";

export interface Command {
  name: CommandName | `Add ${string}`;
  /** As shown; `Mod` is Ctrl, or Command on a Mac. */
  keys?: string;
  run: () => unknown;
  needs?: "shot" | "selection" | "keys";
}

/** A command's keys as they are named on this machine. */
export function shownKeys(command: Command): string {
  const mod = navigator.platform.startsWith("Mac") ? "⌘" : "Ctrl";
  return command.keys?.replace("Mod", mod) ?? "";
}

export async function keepRun() {
  if (shot.id === null) return;
  await shot.settled;
  await notices.attempt(async () => {
    await api.keepRun(shot.id!);
    notices.say("Run kept. It is under Runs.");
  });
}

async function dropToRest() {
  for (const id of selection.ids) shot.take(await notices.attempt(() => api.drop(shot.id!, id)));
}

function toggleFlag(flag: "hidden" | "locked" | "see_through", words: [string, string]) {
  const on = !selection.ids.every((id) => shot.element(id)?.[flag]);
  return shot.set(on ? words[0] : words[1], selection.ids, `/${flag}`, on);
}

/** Cuts liquids open where the selection stands, or makes them whole again. */
function cutLiquids() {
  const at_m = shot.selected?.placement?.position_m?.[2] ?? 0;
  desk.cut = desk.cut ? null : { axis: 2, at_m, below: false };
}

export function theme(next?: "dusk" | "day") {
  const root = document.documentElement;
  root.dataset.theme = next ?? (root.dataset.theme === "day" ? "dusk" : "day");
  localStorage.setItem("theme", root.dataset.theme);
}

class Commands {
  list: Command[] = [
    { name: "Find a command, element or value", keys: "Mod+J", run: () => (desk.finder = true) },
    { name: "Play or pause", keys: "Enter", run: playOrPerform, needs: "shot" },
    {
      name: "Perform by hand",
      keys: "P",
      run: () => (performing.armed = !performing.armed),
      needs: "shot",
    },
    { name: "Stop computing", keys: "Shift+Enter", run: () => playback.stopComputing(), needs: "shot" },
    { name: "One frame on", keys: ".", run: () => playback.step(1), needs: "shot" },
    { name: "One frame back", keys: ",", run: () => playback.step(-1), needs: "shot" },
    { name: "To the first frame", keys: "1", run: () => playback.go(playback.first), needs: "shot" },
    { name: "To the last frame", keys: "0", run: () => playback.go(playback.last), needs: "shot" },
    { name: "Drop all frames of this run", run: () => playback.clear(), needs: "shot" },
    { name: "Keep run", keys: "Shift+K", run: keepRun, needs: "shot" },
    { name: "Render…", keys: "Shift+R", run: () => (films.asking = true), needs: "shot" },
    { name: "Undo", keys: "Mod+Z", run: () => shot.undo(), needs: "shot" },
    { name: "Redo", keys: "Mod+Shift+Z", run: () => shot.redo(), needs: "shot" },
    { name: "Duplicate", keys: "Mod+U", run: () => shot.duplicate(selection.ids), needs: "selection" },
    {
      name: "Delete",
      keys: "Delete",
      run: () => (marks.list.length > 0 ? marks.remove() : shot.remove(selection.ids)),
      needs: "selection",
    },
    { name: "Drop to rest", keys: "Shift+D", run: dropToRest, needs: "selection" },
    { name: "Look at the selection", keys: "L", run: () => desk.viewport?.frameSelection(), needs: "shot" },
    {
      name: "Hide or show",
      keys: "Shift+H",
      run: () => toggleFlag("hidden", ["Hidden", "Shown"]),
      needs: "selection",
    },
    {
      name: "See through or solid",
      run: () => toggleFlag("see_through", ["Seen through", "Solid again"]),
      needs: "selection",
    },
    { name: "Lock or unlock", run: () => toggleFlag("locked", ["Locked", "Unlocked"]), needs: "selection" },
    {
      name: "Show the selection alone, or all again",
      keys: "Shift+S",
      run: () => (selection.solo = selection.solo.length ? [] : [...selection.ids]),
      needs: "shot",
    },
    {
      name: "Select all solids",
      keys: "Mod+A",
      run: () => selection.set(shot.elements.filter((e) => "solid" in e.kind).map((e) => e.id)),
      needs: "shot",
    },
    {
      name: "Select nothing",
      keys: "Escape",
      run: () => (desk.drawing ? (desk.drawing = null) : selection.none()),
      needs: "shot",
    },
    { name: "Copy the chosen keys", keys: "Shift+C", run: () => marks.copy(), needs: "keys" },
    {
      name: "Paste keys at this frame",
      keys: "Shift+V",
      run: () => marks.canPaste && marks.paste(),
      needs: "shot",
    },
    { name: "Keys a frame earlier", keys: "Shift+,", run: () => marks.nudge(-1), needs: "keys" },
    { name: "Keys a frame later", keys: "Shift+.", run: () => marks.nudge(1), needs: "keys" },
    { name: "Mirror the chosen keys", run: () => marks.mirror(), needs: "keys" },
    { name: "Repeat the chosen keys", run: () => marks.repeat(), needs: "keys" },
    { name: "Constant speed through the chosen keys", run: () => marks.constantSpeed(), needs: "keys" },
    { name: "Add a turntable camera", run: addTurntable, needs: "shot" },
    { name: "Add text as a curve", run: addText, needs: "shot" },
    { name: "Show what forces do", keys: "W", run: () => (desk.probe = !desk.probe), needs: "shot" },
    { name: "Show tracer dots", keys: "Shift+W", run: () => (desk.tracers = !desk.tracers), needs: "shot" },
    { name: "Cut through liquids", run: cutLiquids, needs: "shot" },
    { name: "Move handles", keys: "M", run: () => (desk.handle = "move"), needs: "shot" },
    { name: "Turn handles", keys: "T", run: () => (desk.handle = "turn"), needs: "shot" },
    { name: "Snap to the floor", run: () => (desk.floor = !desk.floor), needs: "shot" },
    { name: "Snap to 0.1 m steps", run: () => (desk.step = desk.step === null ? 0.1 : null), needs: "shot" },
    {
      name: "Show collision shapes",
      keys: "C",
      run: () => (desk.collision = !desk.collision),
      needs: "shot",
    },
    { name: "View from the camera", run: () => (desk.view = "camera"), needs: "shot" },
    { name: "View free", run: () => (desk.view = "free"), needs: "shot" },
    { name: "View from the top", run: () => (desk.view = "top"), needs: "shot" },
    { name: "View from the front", run: () => (desk.view = "front"), needs: "shot" },
    { name: "View from the side", run: () => (desk.view = "side"), needs: "shot" },
    { name: "Open the Desk", run: () => route.shot && route.open(route.shot, "desk"), needs: "shot" },
    { name: "Open the runs", run: () => route.shot && route.open(route.shot, "runs"), needs: "shot" },
    { name: "Open Dailies", run: () => route.shot && route.open(route.shot, "dailies"), needs: "shot" },
    { name: "All shots", run: () => route.home() },
    { name: "Day or dusk theme", run: () => theme() },
    ...addables.map((addable) => ({
      name: `Add ${addable.name.toLowerCase()}` as const,
      run: () => add(addable),
      needs: "shot" as const,
    })),
  ];

  named(name: CommandName): Command {
    return this.list.find((command) => command.name === name)!;
  }

  can(command: Command): boolean {
    if (command.needs === "shot") return shot.document !== null;
    if (command.needs === "selection") return shot.document !== null && selection.ids.length > 0;
    if (command.needs === "keys") return shot.document !== null && marks.list.length > 0;
    return true;
  }

  press(event: KeyboardEvent) {
    const target = event.target as HTMLElement;
    const mod = event.ctrlKey || event.metaKey;
    const typing = target.matches("input, textarea, select, [contenteditable]");
    const onButton = target.matches("button, a, [role=button], [role=slider], [role=tab], [role=option]");
    // An open dialog or menu keeps its keys; letters typed are text; Enter presses the button in focus.
    const layers = "[role=dialog], [role=alertdialog], [role=menu], [role=listbox]";
    if (document.querySelector(layers) && !mod) return;
    if (typing && !(mod && event.key.toLowerCase() === "j")) return;
    if (onButton && event.key === "Enter") return;
    const parts = [
      mod && "Mod",
      event.shiftKey && "Shift",
      event.key.length === 1 ? event.key.toUpperCase() : event.key,
    ];
    const keys = parts.filter(Boolean).join("+");
    const command = this.list.find((command) => command.keys === keys);
    if (command && this.can(command)) {
      event.preventDefault();
      command.run();
    }
  }
}

const saved = localStorage.getItem("theme");
if (saved === "day" || saved === "dusk") theme(saved);

export const commands = new Commands();
