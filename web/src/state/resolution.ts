// The resolution of cloths and soft bodies, and its forecast in words.

/** The factor for edges or cells that makes about so many of a number of vertices or cells. */
export function finer(of: "cloth" | "soft", count: number, wanted: number): number {
  return (count / wanted) ** (of === "cloth" ? 1 / 2 : 1 / 3);
}

function spoken(seconds: number): string {
  if (seconds < 1) return `${Math.max(1, Math.round(1000 * seconds))} ms`;
  if (seconds < 90) return `${Number(seconds.toPrecision(2))} s`;
  return seconds < 5400 ? `${Math.round(seconds / 60)} min` : `${Number((seconds / 3600).toPrecision(2))} h`;
}

/** About how long a frame and all frames take. */
export function forecastWords(seconds: number, frames: number): string {
  return `About ${spoken(seconds)} a frame, ${spoken(seconds * frames)} in all.`;
}
