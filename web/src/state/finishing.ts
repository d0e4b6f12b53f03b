// Finishing steps: what can be added, how they are told in words, and their order.
import { GRID } from "./addables";
import type { ChoiceOf, Element, Operation, Schemas } from "../api/client";
import { kindOf, type NameOf } from "../api/client";
import { keptRuns } from "./keptRuns.svelte";
import { notices } from "./notices.svelte";
import { keysOf, channelsOf, type Channel } from "./keys";
import { selection } from "./selection.svelte";
import { playback } from "./playback.svelte";
import { shot } from "./shot.svelte";

export type Finish = Schemas["Finish"];
export type FinishOperation = Schemas["FinishOperation"];
type Name = NameOf<FinishOperation>;
type Retime = ChoiceOf<FinishOperation, "retime">;

/** Where the curve of a retiming lies. */
export const RUN_FRAME = "kind.finish.operation.retime.run_frame";

/** Where the weight of a blend lies. */
const BLEND_WEIGHT = "kind.finish.operation.blend.weight";

/** Number of the run kept last; 1 if there is none yet. */
const latestKept = () => Math.max(1, ...keptRuns.list.map((run) => run.number));

/** The frames that a step begins with. */
interface Span {
  first: number;
  last: number;
}

/** The finishing step that an element is. */
export function finishOf(element: Element | undefined): Finish | undefined {
  return element && "finish" in element.kind ? element.kind.finish : undefined;
}

/** Whether an element has a place of its own: of finishing steps only those that place have. */
export function stands(id: number): boolean {
  const operation = finishOf(shot.element(id))?.operation;
  return operation === undefined || "place" in operation;
}

/** The steps of each element, and of the whole shot under null, in the order in which they are taken. */
export function stepsByElement(): Map<number | null, Element[]> {
  const steps = new Map<number | null, Element[]>();
  for (const step of shot.elements) {
    const finish = finishOf(step);
    if (!finish) continue;
    const of = finish.element ?? null;
    steps.set(of, [...(steps.get(of) ?? []), step]);
  }
  for (const list of steps.values())
    list.sort((a, b) => (finishOf(a)!.order ?? 0) - (finishOf(b)!.order ?? 0) || a.id - b.id);
  return steps;
}

/** The steps of an element, or of the whole shot, in the order in which they are taken. */
export const stepsOf = (element: number | null): Element[] => stepsByElement().get(element) ?? [];

/** A straight line from one frame to another, as a channel. */
export function line(keys: [frame: number, shown: number][]): Channel {
  return { keys: keys.map(([frame, value]) => ({ frame, value, interpolation: "linear" })) } as Channel;
}

/** The frames shown at a constant factor of the speed, and how many there are. */
export function atSpeed({ first, last }: Span, factor: number): { frames: number; channel: Channel } {
  const frames = Math.max(1, Math.round((last - first) / Math.abs(factor))) + 1;
  const [from, to] = factor < 0 ? [last, first] : [first, last];
  return {
    frames,
    channel: line([
      [first, from],
      [first + frames - 1, to],
    ]),
  };
}

/** The frames shown with a part at another speed, and how many there are. */
export function partAtSpeed(
  { first, last }: Span,
  from: number,
  to: number,
  factor: number,
): { frames: number; channel: Channel } {
  const [a, b] = [Math.max(first, Math.min(from, to)), Math.min(last, Math.max(from, to))];
  const after = a + (b - a) / factor;
  const end = Math.round(after + (last - b));
  const keys: [number, number][] = [[first, first]];
  if (a > first) keys.push([a, a]);
  if (b < last) keys.push([Math.round(after), b]);
  keys.push([end, last]);
  return { frames: end - first + 1, channel: line(keys) };
}

export interface Step {
  name: string;
  /** What it does, in a line. */
  about: string;
  make: (span: Span) => { operation: FinishOperation; channels?: Record<string, Channel> };
}

/** What can be done to finished frames, in the order of the menu. */
export const STEPS: Record<Name, Step> = {
  trim: {
    name: "Trim",
    about: "keep a range of frames",
    make: ({ first, last }) => ({ operation: { trim: { from_frame: first, to_frame: last } } }),
  },
  retime: {
    name: "Retime",
    about: "slower, faster, backwards, by a curve",
    make: (span) => {
      const { frames, channel } = atSpeed(span, 0.5);
      return {
        operation: { retime: { frames, run_frame: span.first } },
        channels: { [RUN_FRAME]: channel },
      };
    },
  },
  reverse: {
    name: "Reverse",
    about: "from the last to the first",
    make: () => ({ operation: { reverse: {} } }),
  },
  shift: {
    name: "Shift",
    about: "later or earlier",
    make: () => ({ operation: { shift: { frames: 12 } } }),
  },
  loop: {
    name: "Loop",
    about: "go round without a seam",
    make: ({ first, last }) => {
      const overlap = Math.min(12, Math.floor((last - first + 1) / 4));
      const frames = Math.max(2, last - first + 1 - overlap);
      return { operation: { loop: { frames, from_frame: first + overlap, overlap } } };
    },
  },
  join: {
    name: "Join",
    about: "a kept run after this one",
    make: () => ({ operation: { join: { run: latestKept() } } }),
  },
  blend: {
    name: "Blend",
    about: "over to a kept run",
    make: ({ first, last }) => {
      const [from, to] = [first + (last - first) / 3, first + (2 * (last - first)) / 3].map(Math.round);
      return {
        operation: { blend: { run: latestKept(), weight: 0 } },
        channels: {
          [BLEND_WEIGHT]: line([
            [from, 0],
            [to, 1],
          ]),
        },
      };
    },
  },
  smooth: {
    name: "Smooth",
    about: "even out motion",
    make: () => ({ operation: { smooth: { radius: 3 } } }),
  },
  smooth_shape: {
    name: "Even out",
    about: "a surface, without shrinking it",
    make: () => ({ operation: { smooth_shape: { passes: 10 } } }),
  },
  thicken: {
    name: "Thicken",
    about: "give a sheet two sides",
    make: () => ({ operation: { thicken: { thickness_m: 0.01, offset: 0 } } }),
  },
  subdivide: {
    name: "Subdivide",
    about: "refine to a smooth surface",
    make: () => ({ operation: { subdivide: { scheme: "catmull_clark", levels: 2 } } }),
  },
  particle_mesh: {
    name: "Mesh of particles",
    about: "the surface of a liquid",
    make: () => ({
      operation: {
        particle_mesh: { radius: 0.6, reach: 2.2, edge: 0.5, passes: 3, anisotropy: 3, film: 0.8 },
      },
    }),
  },
  place: {
    name: "Place",
    about: "move, turn, scale",
    make: () => ({ operation: { place: { scale: 1 } } }),
  },
  copies: {
    name: "Copies",
    about: "many of it, each at its own time",
    make: () => ({
      operation: {
        copies: {
          grid: { ...GRID, count: [5, 1, 1], spacing_m: [1, 0, 1] },
          delay_frames: 6,
          delay_jitter_frames: 0,
          size_variation: 0,
        },
      },
    }),
  },
};

/** Adds a step after the others of an element, or of the whole shot. */
export const addStep = (name: Name, element: number | null, span: Span) =>
  addMade(name, element, STEPS[name].make(span));

async function addMade(
  name: Name,
  element: number | null,
  { operation, channels }: ReturnType<Step["make"]>,
) {
  const before = stepsOf(element);
  const order = before.reduce((most, e) => Math.max(most, (finishOf(e)!.order ?? 0) + 1), 0);
  const finish: Finish = { operation, order, ...(element === null ? {} : { element }) };
  await shot.add(STEPS[name].name, { finish } as Element["kind"], [0, 0, 0], [0, 0, 0], channels);
}

/** Shows one round of a shot that goes round, again and again: by its loop step, or a new one. */
export async function showRound(frames: number, from_frame: number) {
  // The frame shown may be none of the round's.
  playback.pause();
  playback.go(playback.first);
  const loop: FinishOperation = { loop: { frames, from_frame, overlap: 0 } };
  const known = stepsOf(null).find((step) => "loop" in finishOf(step)!.operation);
  if (known) await shot.set("Round shown", [known.id], "/kind/finish/operation", loop);
  else await addMade("loop", null, { operation: loop });
}

/** Puts a step before or after others: `by` places down, or up if negative. */
export function moveStep(step: Element, by: number): Promise<boolean> | undefined {
  const finish = finishOf(step);
  if (!finish) return;
  const steps = stepsOf(finish.element ?? null);
  const from = steps.findIndex((e) => e.id === step.id);
  const to = Math.min(steps.length - 1, Math.max(0, from + by));
  if (to === from) return;
  const next = steps.filter((e) => e.id !== step.id);
  next.splice(to, 0, step);
  return shot.edit(`${step.name} moved`, (document) =>
    next.map((e, order): Operation => ({
      op: "add",
      path: `/elements/${document.elements.findIndex((at) => at.id === e.id)}/kind/finish/order`,
      value: order,
    })),
  );
}

/** Gives a retiming its curve, and as many frames as that has. */
export function setCurve(step: Element, label: string, { frames, channel }: ReturnType<typeof atSpeed>) {
  return shot.edit(label, (document) => {
    const at = `/elements/${document.elements.findIndex((e) => e.id === step.id)}`;
    const channels = { ...channelsOf(step), [RUN_FRAME]: channel };
    return [
      { op: "add", path: `${at}/kind/finish/operation/retime/frames`, value: frames },
      { op: "add", path: `${at}/channels`, value: channels },
    ];
  });
}

/** Switches a step on or off. */
export function switchStep(step: Element) {
  const on = finishOf(step)?.enabled !== false;
  return shot.set(`${step.name} ${on ? "off" : "on"}`, [step.id], "/kind/finish/enabled", !on);
}

const FRACTIONS: [number, string][] = [
  [1 / 2, "a half"],
  [1 / 3, "a third"],
  [1 / 4, "a quarter"],
  [1 / 8, "an eighth"],
  [1 / 10, "a tenth"],
];

/** A factor of the speed in words, such as `slow to a half`. */
export function speedWords(factor: number): string {
  const size = Math.abs(factor);
  const fraction = FRACTIONS.find(([value]) => Math.abs(value - size) < 0.02 * value);
  const words =
    Math.abs(size - 1) < 0.005
      ? ""
      : size < 1
        ? `slow to ${fraction?.[1] ?? `${Math.round(100 * size)} %`}`
        : `${Number(size.toFixed(1))} times as fast`;
  if (factor < 0) return words ? `backwards, ${words}` : "backwards";
  return words || "as fast";
}

function retimeWords(step: Element, { frames }: Retime): string {
  const keys = keysOf(channelsOf(step)[RUN_FRAME]);
  if (keys.length < 2) return `retime to ${frames} frames`;
  const speeds = keys.slice(1).map((key, i) => {
    const before = keys[i];
    return {
      from: before.value as number,
      to: key.value as number,
      factor: ((key.value as number) - (before.value as number)) / (key.frame - before.frame),
    };
  });
  const changed = speeds.filter((speed) => Math.abs(speed.factor - 1) > 0.02);
  if (changed.length === 0) return "retime";
  const [one] = changed;
  const words = changed.length > 1 ? "retime" : speedWords(one.factor);
  return speeds.length > 1 && changed.length === 1
    ? `${words}, ${Math.round(one.from)}–${Math.round(one.to)}`
    : words;
}

function copiesWords({
  grid,
  delay_frames = 0,
  delay_jitter_frames = 0,
}: ChoiceOf<FinishOperation, "copies">) {
  const count = `${grid.count.reduce((all, n) => all * n, 1)} copies`;
  if (delay_jitter_frames > 0) return `${count}, at random over ${delay_jitter_frames}`;
  if (delay_frames === 0) return count;
  return `${count}, each ${Math.abs(delay_frames)} ${delay_frames < 0 ? "earlier" : "later"}`;
}

/** A step in a few words, for its row. */
export function wordsOf(step: Element): string {
  const operation = finishOf(step)?.operation;
  if (!operation) return step.name;
  if ("trim" in operation) return `trim ${operation.trim.from_frame}–${operation.trim.to_frame}`;
  if ("retime" in operation) return retimeWords(step, operation.retime);
  if ("shift" in operation) {
    const { frames } = operation.shift;
    return `${Math.abs(frames)} ${Math.abs(frames) === 1 ? "frame" : "frames"} ${frames < 0 ? "earlier" : "later"}`;
  }
  if ("join" in operation) return `then run ${operation.join.run}`;
  if ("blend" in operation) return `over to run ${operation.blend.run}`;
  if ("smooth" in operation) return `smooth over ${2 * Math.round(operation.smooth.radius) + 1}`;
  if ("loop" in operation) return `loop in ${operation.loop.frames}`;
  if ("subdivide" in operation) return `subdivide ${operation.subdivide.levels} ×`;
  if ("smooth_shape" in operation) return `even out, ${operation.smooth_shape.passes} passes`;
  if ("copies" in operation) return copiesWords(operation.copies);
  if ("thicken" in operation && Object.keys(channelsOf(step)).length === 0)
    return `thicken ${Number((1000 * operation.thicken.thickness_m).toFixed(1))} mm`;
  return STEPS[kindOf(operation)].name.toLowerCase();
}

/** The solid or particles selected, for which a step can be added. */
export function finishable(): Element | undefined {
  return selection.ids
    .map((id) => shot.element(id))
    .find((element) => element && ("solid" in element.kind || "particles" in element.kind));
}

/** Says why a step cannot be taken, when its mark is pressed. */
export const tellProblem = (problem: string) => notices.say(`This step ${problem}.`);
