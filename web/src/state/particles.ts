// The words and beginnings of what particles do.
import type { Element, Particles, Schemas } from "../api/client";

export type When = Schemas["When"];
export type Then = Schemas["Then"];
export type Becoming = Schemas["Becoming"];
export type Source = Schemas["Source"];
type Who = Schemas["Who"];

type Names = (id: number) => string;

/** The one name of a value of one of several kinds. */
export const kindOf = (value: object | string | undefined): string =>
  value === undefined ? "" : typeof value === "string" ? value : Object.keys(value)[0];

export function whoName(who: Who, name: Names): string {
  if (typeof who === "number") return name(who);
  if ("group" in who) return `the group ${who.group}`;
  return who.kind === "solid" ? "a solid" : "particles";
}

const either = (list: string[]) =>
  list.length < 2 ? list.join("") : `${list.slice(0, -1).join(", ")} or ${list[list.length - 1]}`;

export function whenWords(when: When, name: Names): string {
  if ("age" in when) return `${number(when.age.s)} s after its birth`;
  if ("end" in when) return "at the end of its life";
  if ("touch" in when) {
    const of = when.touch.of?.length ? either(when.touch.of.map((who) => whoName(who, name))) : "a body";
    const fast = when.touch.speed_m_s ? ` at ${number(when.touch.speed_m_s)} m/s or faster` : "";
    return `when it touches ${of}${fast}`;
  }
  if ("region" in when) return `when it comes into ${name(when.region.region)}`;
  if ("faster" in when) return `when it is faster than ${number(when.faster.speed_m_s)} m/s`;
  if ("slower" in when) return `when it is slower than ${number(when.slower.speed_m_s)} m/s`;
  if ("frame" in when) return `at frame ${when.frame.frame}`;
  return `once there are ${when.count.number}`;
}

export function thenWords(then: Then, name: Names): string {
  if ("die" in then) return "die";
  if ("become" in then) return `become ${name(then.become.of)}`;
  if ("split" in then) {
    const { of, number: count = 6, stays } = then.split;
    const into = of == null ? "of its own" : `of ${name(of)}`;
    return stays ? `give off ${count} ${into}` : `split into ${count} ${into}`;
  }
  if ("trail" in then) return `leave ${number(then.trail.per_s)} of ${name(then.trail.of)} a second behind`;
  return `become a body of ${name(then.solid.of)}`;
}

/** What becomes of particles, as a sentence. */
export function sentence({ when, then, share }: Becoming, name: Names): string {
  const words = `${whenWords(when, name)}, ${thenWords(then, name)}`;
  const some = share !== undefined && share < 1 ? `; ${number(100 * share)} % do` : "";
  return words[0].toUpperCase() + words.slice(1) + some;
}

const number = (value: number) => String(Number(value.toPrecision(4)));

/** What a moment begins as. */
export function newWhen(kind: string, region: number | undefined, frame: number): When | null {
  switch (kind) {
    case "age":
      return { age: { s: 0.5 } };
    case "end":
      return { end: {} };
    case "touch":
      return { touch: { of: [], speed_m_s: 0 } };
    case "region":
      return region === undefined ? null : { region: { region } };
    case "faster":
      return { faster: { speed_m_s: 5 } };
    case "slower":
      return { slower: { speed_m_s: 0.05 } };
    case "frame":
      return { frame: { frame } };
    default:
      return { count: { number: 1000 } };
  }
}

/** What an outcome begins as; null where there is nothing for it to become. */
export function newThen(kind: string, own: number, others: number[], solids: number[]): Then | null {
  switch (kind) {
    case "die":
      return { die: {} };
    case "split":
      return { split: { of: others[0], number: 6, spread_rad: Math.PI, speed_m_s: 1 } as Schemas["Split"] };
    case "become":
      return others.length ? { become: { of: others[0] } } : null;
    case "trail":
      return { trail: { of: others[0] ?? own, per_s: 40 } };
    default:
      return solids.length ? { solid: { of: solids[0] } } : null;
  }
}

export const WHENS: [string, string][] = [
  ["touch", "when it touches"],
  ["age", "some time after its birth"],
  ["end", "at the end of its life"],
  ["region", "when in a region"],
  ["faster", "when it is faster than"],
  ["slower", "when it is slower than"],
  ["frame", "at a frame"],
  ["count", "once there are so many"],
];

/** When bodies become particles again. */
export const BACKS: [string, string][] = [
  ["slower", "once it is slower than"],
  ["age", "some time after it became a body"],
  ["region", "when in a region"],
  ["faster", "when it is faster than"],
  ["frame", "at a frame"],
];

export const THENS: [string, string][] = [
  ["die", "die"],
  ["split", "split into others"],
  ["become", "become other particles"],
  ["trail", "leave others behind"],
  ["solid", "become a body"],
];

/** Bytes of a particle in a frame on disk, about. */
const BYTES = 13;

/** What there will be at once, and of a frame on disk, before anything is computed; null where keys decide. */
export function forecast(
  { births, start }: Pick<Particles, "births" | "start">,
  timing: { first: number; last: number; fps: number },
  keyed: boolean,
): { alive: number; bytes: number } | null {
  const how = births?.how ?? { rate: { per_s: 200 } };
  const from = births?.from_frame ?? timing.first;
  const to = Math.min(births?.to_frame ?? timing.last, timing.last);
  const early = births?.from_frame == null ? (births?.preroll_s ?? 0) : 0;
  const span = Math.max(0, (to - from) / timing.fps + early);
  const life = start?.lifespan_s === null ? Infinity : (start?.lifespan_s ?? 2);
  if (keyed || "never" in how) return null;
  const alive =
    "rate" in how
      ? how.rate.per_s * Math.min(life, span)
      : "number" in how
        ? how.number.number * (span > 0 ? Math.min(1, life / span) : 1)
        : how.at_once.number;
  return { alive: Math.round(alive), bytes: BYTES * alive };
}

/** Solids whose bodies come from particles. */
export const receivers = (elements: Element[]): Element[] =>
  elements.filter((e) => "solid" in e.is && e.is.solid.from_particles != null);
