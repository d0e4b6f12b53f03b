// What is dragged in a curve's lane: a part of a key's value, or one of the key's two handles.
import { keysOf, withChange, type Channel, type Key, type Value } from "../state/keys";

export type Side = "outgoing" | "incoming";

export interface Grip {
  /** Index of the key in its channel. */
  key: number;
  /** Index of the part of the value; 0 for a value of one part. */
  part: number;
  /** The handle; without one the key itself is dragged. */
  side?: Side;
}

export const partsOf = (value: Value): number[] => (Array.isArray(value) ? value : [Number(value)]);

/** A value made of parts, of the type that another value has. */
const like = (value: Value, parts: number[]) => (Array.isArray(value) ? parts : parts[0]) as Value;

/** A key's handle on one side; without one that is set, a third of the way to the key on that side. */
export function handleOf(keys: Key[], index: number, side: Side): { frames: number; value: Value } | null {
  const [from, to] = side === "outgoing" ? [keys[index], keys[index + 1]] : [keys[index - 1], keys[index]];
  if (!from || !to || from.interpolation !== "free") return null;
  const own = side === "outgoing" ? from.outgoing : to.incoming;
  if (own) return own;
  const sign = side === "outgoing" ? 1 : -1;
  const by = partsOf(to.value).map((v, i) => (sign * (v - partsOf(from.value)[i])) / 3);
  return { frames: (to.frame - from.frame) / 3, value: like(to.value, by) };
}

/** The channel after a grip of it was dragged by so many frames and so much of the value. */
export function dragged(channel: Channel, { key: index, part, side }: Grip, frames: number, by: number) {
  const key = keysOf(channel)[index];
  const add = (value: Value) => partsOf(value).map((v, i) => (i === part ? v + by : v));
  if (side) {
    const old = handleOf(keysOf(channel), index, side)!;
    const away = Math.max(0, old.frames + (side === "outgoing" ? frames : -frames));
    return withChange(channel, index, { [side]: { frames: away, value: like(old.value, add(old.value)) } });
  }
  const rounded = add(key.value).map((v) => Number(v.toFixed(4)));
  return withChange(channel, index, {
    frame: Math.round(key.frame + frames),
    value: typeof key.value === "boolean" ? key.value : like(key.value, rounded),
  });
}
