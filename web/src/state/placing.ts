// Elements put where their handles were let go.
import type { Element, Operation, Shot, Vector } from "../api/client";
import type { ViewportFrame } from "../viewport/frames";
import type { Moved } from "../viewport/handles";
import { relative } from "./attaching";
import { channelsOf, keysOf, withKey } from "./keys";
import { playback } from "./playback.svelte";
import { shot } from "./shot.svelte";
import { channelOperations, values } from "./values.svelte";

/** Saves where a drag has put elements; `staged` is the frame in which it began. */
export function place(list: Moved[], done: "turned" | "moved", staged: ViewportFrame | undefined) {
  const first = shot.element(list[list.length - 1].id)?.name;
  const rest = list.length > 1 ? ` and ${list.length - 1} more` : "";
  return shot.edit(`${first}${rest} ${done}`, (document) =>
    list.flatMap((to) => placed(document, to, staged)),
  );
}

/** The operations that put an element where its handle was let go. */
function placed(document: Shot, { id, place, turn }: Moved, staged: ViewportFrame | undefined): Operation[] {
  const index = document.elements.findIndex((e) => e.id === id);
  if (index < 0) return [];
  const element = document.elements[index];
  const now = values.now(element).placement ?? {};
  const world = staged?.get(id);
  let next = { position_m: place, orientation_rad: turn };
  if (element.attached && world) next = relative(now, world, next);
  return (["position_m", "orientation_rad"] as const).flatMap((part): Operation[] => {
    const value = next[part].map((v) => Number(v.toFixed(4))) as Vector;
    const path = `placement.${part}`;
    const channel = channelsOf(element)[path];
    return keysOf(channel).length > 0
      ? channelOperations(document, id, path, withKey(channel, playback.frame, value))
      : [{ op: "add", path: `/elements/${index}/placement/${part}`, value }];
  });
}

/** The points of an element that is a curve through points. */
export function pointsOf({ kind }: Element): Vector[] | null {
  return "curve" in kind && "points" in kind.curve ? (kind.curve.points.points_m as Vector[]) : null;
}

/** Saves the point of a curve that was dragged. */
export function placePoint(id: number, points: Vector[]) {
  const element = shot.element(id);
  const before = element ? pointsOf(values.now(element)) : null;
  const i = points.findIndex((point, i) => String(point) !== String(before?.[i]));
  if (!element || i < 0) return;
  const path = `kind.curve.points.points_m.${i}`;
  void values.set({ element, ids: [id], path }, `Point ${i + 1}`, points[i]);
}
