// Points of curves and strokes of drawings.
import type { Operation, Shot, Vector } from "../api/client";
import { channelsOf } from "./keys";

/** Gives a curve other points; `now` tells which point one has become, whose keys go along. */
export function pointOperations(
  document: Shot,
  id: number,
  points: Vector[],
  now: (before: number) => number | null,
): Operation[] {
  const index = document.elements.findIndex((element) => element.id === id);
  if (index < 0) return [];
  const at = `/elements/${index}`;
  const operations: Operation[] = [{ op: "add", path: `${at}/kind/curve/points/points_m`, value: points }];
  const channels = channelsOf(document.elements[index]);
  const next = Object.entries(channels).flatMap(([path, channel]) => {
    const of = /^kind\.curve\.points\.points_m\.(\d+)(.*)$/.exec(path);
    if (!of) return [[path, channel] as const];
    const to = now(Number(of[1]));
    return to === null ? [] : [[`kind.curve.points.points_m.${to}${of[2]}`, channel] as const];
  });
  if (JSON.stringify(next) !== JSON.stringify(Object.entries(channels)))
    operations.push({ op: "add", path: `${at}/channels`, value: Object.fromEntries(next) });
  return operations;
}

/** The longer side of the box around strokes, m. */
export function longerSide(strokes: Vector[][]): number {
  const points = strokes.flat();
  const side = (part: number) => {
    const values = points.map((point) => point[part]);
    return Math.max(...values) - Math.min(...values);
  };
  return Math.max(side(0), side(1), side(2));
}

/** The strokes with another longer side. */
export function resized(strokes: Vector[][], side: number): Vector[][] {
  const by = side / longerSide(strokes);
  return strokes.map((stroke) =>
    stroke.map((point) => point.map((v) => Number((v * by).toFixed(5))) as Vector),
  );
}
