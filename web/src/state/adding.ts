// Adding elements.
import { tick } from "svelte";
import { api, type Vector } from "../api/client";
import { curve, type Addable } from "./addables";
import { desk } from "./desk.svelte";
import { notices } from "./notices.svelte";
import { shot } from "./shot.svelte";

/** Adds a curve of the outlines of letters. */
export async function addText() {
  const lettering = { text: "Tide", line_m: 0.6 };
  const strokes_m = await notices.attempt(() => api.outlineText(lettering.text, lettering.line_m));
  if (strokes_m) await shot.add("Text", curve({ strokes: { strokes_m, lettering } }), [0, 0.5, 0]);
}

/** Adds an element, opens its first tab, and looks at the element if it is out of view. */
export async function add(addable: Addable, at?: Vector) {
  const lacking = addable.needs?.();
  if (lacking) return notices.say(lacking);
  const saved = await shot.add(addable.name, addable.make(), at ?? addable.place, addable.turn);
  if (!saved) return;
  desk.tab = "shape";
  await tick();
  if (desk.viewport && !desk.viewport.seesSelection()) desk.viewport.frameSelection();
  // A menu or dialog that closes gives the focus back first.
  requestAnimationFrame(() => desk.viewport?.focus());
}
