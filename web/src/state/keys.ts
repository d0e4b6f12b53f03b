// Channels of keys. The server samples them.
import type { Element, Schemas } from "../api/client";

export type Channel = Schemas["Channel"];
export type Key = Schemas["Key"];
export type Value = Schemas["Value"];
export type Interpolation = Schemas["Interpolation"];
export type Motion = Record<string, Channel>;

/** The channels of an element, or of the shot. */
export function channelsOf(owner: { channels?: unknown } | null | undefined): Motion {
  return (owner?.channels ?? {}) as Motion;
}

export function keysOf(channel: Channel | undefined): Key[] {
  return channel?.keys ?? [];
}

/** The frames at which any value of an element has a key. */
export function keyedFrames(element: Element): number[] {
  const frames = Object.values(channelsOf(element)).flatMap((channel) => keysOf(channel).map((k) => k.frame));
  return [...new Set(frames)].sort((a, b) => a - b);
}

/** The channel with a key at a frame; a key that is replaced leaves its interpolation. */
export function withKey(channel: Channel | undefined, frame: number, value: Value): Channel {
  const keys = keysOf(channel);
  const there = keys.find((key) => key.frame === frame);
  const others = keys.filter((key) => key !== there);
  return { ...plain(channel), keys: inOrder([...others, { ...there, frame, value }]) };
}

/** The channel without its key at a frame; null once no key is left. */
export function withoutKey(channel: Channel | undefined, frame: number): Channel | null {
  const left = keysOf(channel).filter((key) => key.frame !== frame);
  return left.length > 0 ? { ...plain(channel), keys: left } : null;
}

/** The channel with one key changed. A key moved onto another one replaces it. */
export function withChange(channel: Channel | undefined, index: number, change: Partial<Key>): Channel {
  const keys = keysOf(channel);
  const changed = { ...keys[index], ...change };
  const others = keys.filter((key, i) => i !== index && key.frame !== changed.frame);
  return { ...plain(channel), keys: inOrder([...others, changed]) };
}

/**
 * The channel with the keys of some frames moved to others. Where a moved key meets one that stays,
 * the moved one takes its place; of two that meet, the later one does.
 */
export function withFrames(channel: Channel, frames: number[], to: (frame: number) => number): Channel {
  const moving = new Set(frames);
  const moved = keysOf(channel)
    .filter((key) => moving.has(key.frame))
    .map((key) => ({ ...key, frame: tidy(to(key.frame)) }));
  const last = new Map(moved.map((key) => [key.frame, key]));
  const staying = keysOf(channel).filter((key) => !moving.has(key.frame) && !last.has(key.frame));
  return { ...plain(channel), keys: inOrder([...staying, ...last.values()]) };
}

/** The channel with the interpolation of some keys changed. */
export function withThen(channel: Channel, frames: number[], then: Interpolation): Channel {
  const chosen = new Set(frames);
  const keys = keysOf(channel).map((key) => (chosen.has(key.frame) ? { ...key, interpolation: then } : key));
  return { ...plain(channel), keys };
}

const REVERSED: Partial<Record<Interpolation, Interpolation>> = { ease_in: "ease_out", ease_out: "ease_in" };

/** The channel with some keys reversed between two frames, interpolations included. */
export function withMirrored(channel: Channel, frames: number[], first: number, last: number): Channel {
  const chosen = new Set(frames);
  const keys = keysOf(channel).filter((key) => chosen.has(key.frame));
  const turned = keys.map((key, i) => {
    const then = (i > 0 ? keys[i - 1].interpolation : key.interpolation) ?? "linear";
    return {
      ...key,
      frame: tidy(first + last - key.frame),
      interpolation: REVERSED[then] ?? then,
      outgoing: key.incoming,
      incoming: key.outgoing,
    };
  });
  const staying = keysOf(channel).filter((key) => !chosen.has(key.frame));
  return withKeys({ ...channel, keys: staying }, inOrder(turned));
}

/** The channel with keys added; each replaces a key at its frame. */
export function withKeys(channel: Channel | undefined, added: Key[]): Channel {
  const taken = new Set(added.map((key) => key.frame));
  const staying = keysOf(channel).filter((key) => !taken.has(key.frame));
  return { ...plain(channel), keys: inOrder([...staying, ...added]) };
}

/** Distance between two values of a channel. */
function distance(a: Value, b: Value): number {
  const [p, q] = [a, b].map((value) => (Array.isArray(value) ? value : [Number(value)]));
  return Math.hypot(...p.map((v, i) => v - q[i]));
}

/**
 * The keys from the first to the last of some frames moved in time, so that the value passes from
 * each to the next at one speed, in straight lines.
 */
export function withConstantSpeed(channel: Channel, frames: number[]): Channel {
  const [from, to] = [Math.min(...frames), Math.max(...frames)];
  const keys = keysOf(channel).filter((key) => key.frame >= from && key.frame <= to);
  const ways = keys.slice(1).map((key, i) => distance(key.value, keys[i].value));
  const whole = ways.reduce((sum, way) => sum + way, 0);
  if (keys.length < 2 || whole === 0) return channel;
  let gone = 0;
  const moved = keys.map((key, i) => {
    if (i > 0) gone += ways[i - 1];
    const then = i + 1 < keys.length ? ("linear" as const) : key.interpolation;
    return { ...key, frame: tidy(from + ((to - from) * gone) / whole), interpolation: then };
  });
  // Two keys of one value would fall on one frame: the first is enough.
  const apart = moved.filter((key, i) => i === 0 || key.frame > moved[i - 1].frame);
  const outside = keysOf(channel).filter((key) => key.frame < from || key.frame > to);
  return { ...plain(channel), keys: inOrder([...outside, ...apart]) };
}

const tidy = (frame: number) => Number(frame.toFixed(3));

/** A channel of keys has no formula. */
function plain(channel: Channel | undefined): Channel {
  return { ...channel, expression: undefined };
}

function inOrder(keys: Key[]): Key[] {
  return keys.sort((a, b) => a.frame - b.frame);
}
