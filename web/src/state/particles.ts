// Triggers and actions of particles: words, and first values.
import type { Element, NameOf, Particles, Schemas } from "../api/client";

export type Trigger = Schemas["Trigger"];
export type Action = Schemas["Action"];
export type ParticleEvent = Schemas["ParticleEvent"];
export type Source = Schemas["Source"];
type ElementFilter = Schemas["ElementFilter"];

type Names = (id: number) => string;

export function whoName(who: ElementFilter, name: Names): string {
  if (typeof who === "number") return name(who);
  if ("group" in who) return `the group ${who.group}`;
  return who.kind === "solid" ? "a solid" : "particles";
}

const either = (list: string[]) =>
  list.length < 2 ? list.join("") : `${list.slice(0, -1).join(", ")} or ${list[list.length - 1]}`;

export function triggerWords(trigger: Trigger, name: Names): string {
  if ("age" in trigger) return `${number(trigger.age.age_s)} s after its birth`;
  if ("end" in trigger) return "at the end of its life";
  if ("touch" in trigger) {
    const of = trigger.touch.bodies?.length
      ? either(trigger.touch.bodies.map((who) => whoName(who, name)))
      : "a body";
    const fast = trigger.touch.speed_m_s ? ` at ${number(trigger.touch.speed_m_s)} m/s or faster` : "";
    return `when it touches ${of}${fast}`;
  }
  if ("region" in trigger) return `when it comes into ${name(trigger.region.region)}`;
  if ("faster" in trigger) return `when it is faster than ${number(trigger.faster.speed_m_s)} m/s`;
  if ("slower" in trigger) return `when it is slower than ${number(trigger.slower.speed_m_s)} m/s`;
  if ("frame" in trigger) return `at frame ${trigger.frame.frame}`;
  return `once there are ${trigger.count.count}`;
}

export function actionWords(action: Action, name: Names): string {
  if ("die" in action) return "die";
  if ("become" in action) return `become ${name(action.become.particles)}`;
  if ("split" in action) {
    const { particles: of, count = 6, stays } = action.split;
    const into = of == null ? "of its own" : `of ${name(of)}`;
    return stays ? `give off ${count} ${into}` : `split into ${count} ${into}`;
  }
  if ("trail" in action)
    return `leave ${number(action.trail.per_s)} of ${name(action.trail.particles)} a second behind`;
  return `become a body of ${name(action.solid.solid)}`;
}

/** An event of particles as a sentence. */
export function sentence({ trigger, action, probability }: ParticleEvent, name: Names): string {
  const words = `${triggerWords(trigger, name)}, ${actionWords(action, name)}`;
  const some = probability !== undefined && probability < 1 ? `; ${number(100 * probability)} % do` : "";
  return words[0].toUpperCase() + words.slice(1) + some;
}

const number = (value: number) => String(Number(value.toPrecision(4)));

/** First values of a trigger; null where it needs a region and there is none. */
export function newTrigger(kind: NameOf<Trigger>, region: number | undefined, frame: number): Trigger | null {
  switch (kind) {
    case "age":
      return { age: { age_s: 0.5 } };
    case "end":
      return { end: {} };
    case "touch":
      return { touch: { bodies: [], speed_m_s: 0 } };
    case "region":
      return region === undefined ? null : { region: { region } };
    case "faster":
      return { faster: { speed_m_s: 5 } };
    case "slower":
      return { slower: { speed_m_s: 0.05 } };
    case "frame":
      return { frame: { frame } };
    default:
      return { count: { count: 1000 } };
  }
}

/** First values of an action; null where it needs an element and there is none. */
export function newAction(
  kind: NameOf<Action>,
  own: number,
  others: number[],
  solids: number[],
): Action | null {
  switch (kind) {
    case "die":
      return { die: {} };
    case "split":
      return {
        split: { particles: others[0], count: 6, spread_rad: Math.PI, speed_m_s: 1 } as Schemas["Split"],
      };
    case "become":
      return others.length ? { become: { particles: others[0] } } : null;
    case "trail":
      return { trail: { particles: others[0] ?? own, per_s: 40 } };
    default:
      return solids.length ? { solid: { solid: solids[0] } } : null;
  }
}

export const TRIGGERS: [NameOf<Trigger>, string][] = [
  ["touch", "when it touches"],
  ["age", "some time after its birth"],
  ["end", "at the end of its life"],
  ["region", "when in a region"],
  ["faster", "when it is faster than"],
  ["slower", "when it is slower than"],
  ["frame", "at a frame"],
  ["count", "once there are so many"],
];

/** Triggers by which bodies become particles again. */
export const BACKS: [NameOf<Trigger>, string][] = [
  ["slower", "once it is slower than"],
  ["age", "some time after it became a body"],
  ["region", "when in a region"],
  ["faster", "when it is faster than"],
  ["frame", "at a frame"],
];

export const ACTIONS: [NameOf<Action>, string][] = [
  ["die", "die"],
  ["split", "split into others"],
  ["become", "become other particles"],
  ["trail", "leave others behind"],
  ["solid", "become a body"],
];

/** Bytes of a particle in a frame on disk, about. */
const BYTES = 13;

/** Forecast of the particles alive at once and of bytes a frame; null where keys decide. */
export function forecast(
  { emission, start }: Pick<Particles, "emission" | "start">,
  timing: { first: number; last: number; fps: number },
  keyed: boolean,
): { alive: number; bytes: number } | null {
  const how = emission?.schedule ?? { rate: { per_s: 200 } };
  const from = emission?.from_frame ?? timing.first;
  const to = Math.min(emission?.to_frame ?? timing.last, timing.last);
  const early = emission?.from_frame == null ? (emission?.preroll_s ?? 0) : 0;
  const span = Math.max(0, (to - from) / timing.fps + early);
  const life = start?.lifespan_s === null ? Infinity : (start?.lifespan_s ?? 2);
  // Of a liquid the server tells.
  if (keyed || "never" in how || "fill" in how || "flow" in how || "jet" in how || "released" in how)
    return null;
  const alive =
    "rate" in how
      ? how.rate.per_s * Math.min(life, span)
      : "total" in how
        ? how.total.count * (span > 0 ? Math.min(1, life / span) : 1)
        : how.burst.count;
  return { alive: Math.round(alive), bytes: BYTES * alive };
}

/** Solids whose bodies come from particles. */
export const receivers = (elements: Element[]): Element[] =>
  elements.filter((e) => "solid" in e.kind && e.kind.solid.from_particles != null);
