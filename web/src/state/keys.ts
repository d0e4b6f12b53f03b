// Keys of a value: where it is given, frame by frame.
import type { Vector } from "../api/client";

export interface Key {
  frame: number;
  value: Vector;
  /** How it goes on to the next key: hold, linear or smooth. */
  then?: string;
}

/** The keys of a value, in order; null if it is constant. */
export function keysOf(param: unknown): Key[] | null {
  return Array.isArray(param) ? null : ((param as { keys?: Key[] } | null)?.keys ?? null);
}

/** The frames at which any of the values has a key. */
export function keyedFrames(params: unknown[]): number[] {
  const frames = params.flatMap((param) => keysOf(param)?.map((key) => key.frame) ?? []);
  return [...new Set(frames)].sort((a, b) => a - b);
}

/** The value with a key at a frame; one that is there keeps how it goes on. */
export function withKey(param: unknown, frame: number, value: Vector): { keys: Key[] } {
  const keys = keysOf(param) ?? [];
  const there = keys.find((key) => key.frame === frame);
  return { keys: inOrder([...keys.filter((key) => key !== there), { ...there, frame, value }]) };
}

/** The value without its key at a frame: constant once no key is left. */
export function withoutKey(param: unknown, frame: number): { keys: Key[] } | Vector {
  const keys = keysOf(param) ?? [];
  const left = keys.filter((key) => key.frame !== frame);
  return left.length > 0 ? { keys: left } : keys[0].value;
}

/** The value with one key changed. Moved onto another key, it takes its place. */
export function withChange(param: unknown, index: number, change: Partial<Key>): { keys: Key[] } {
  const keys = keysOf(param) ?? [];
  const changed = { ...keys[index], ...change };
  const others = keys.filter((key, i) => i !== index && key.frame !== changed.frame);
  return { keys: inOrder([...others, changed]) };
}

/** A constant value set anew, or a keyed one keyed at the frame. */
export function setAt(param: unknown, frame: number, value: Vector): Vector | { keys: Key[] } {
  return keysOf(param) ? withKey(param, frame, value) : value;
}

/** A value at a frame, as far as the keys themselves say: the last key's before it. */
export function valueAt(param: unknown, frame: number): Vector {
  const keys = keysOf(param);
  if (!keys) return param as Vector;
  return (keys.findLast((key) => key.frame <= frame) ?? keys[0]).value;
}

function inOrder(keys: Key[]): Key[] {
  return keys.sort((a, b) => a.frame - b.frame);
}
