// Values on the Sheet at the frame shown: constant, keyed or by a formula.
import { api, type Element, type Operation, type Shot } from "../api/client";
import { channelsOf, withKey, withoutKey, keysOf, type Channel, type Value } from "./keys";
import { performing } from "./performing.svelte";
import { playback } from "./playback.svelte";
import { shot } from "./shot.svelte";
import { meant, pointer, type Target } from "./target";

/** How a value changes: not at all, by keys, by keys with one at this frame, by a formula. */
export type How = "constant" | "keyed" | "here" | "formula";

function read(owner: unknown, path: string): unknown {
  const parts = pointer(path).split("/").slice(1);
  return parts.reduce<unknown>(
    (at, part) => (at as Record<string, unknown> | null | undefined)?.[part],
    owner,
  );
}

/** Where an element lies in a document; the document itself for none. */
function placeOf(document: Shot, id: number | null): { at: string; owner: { channels?: unknown } } | null {
  if (id === null) return { at: "", owner: document };
  const index = document.elements.findIndex((element) => element.id === id);
  return index < 0 ? null : { at: `/elements/${index}`, owner: document.elements[index] };
}

/** The operations that set a channel of an element, or take it away. */
export function channelOperations(
  document: Shot,
  id: number | null,
  path: string,
  channel: Channel | null,
): Operation[] {
  const place = placeOf(document, id);
  if (!place) return [];
  const channels = channelsOf(place.owner);
  if (Object.keys(channels).length === 0)
    return channel ? [{ op: "add", path: `${place.at}/channels`, value: { [path]: channel } }] : [];
  if (channel) return [{ op: "add", path: `${place.at}/channels/${path}`, value: channel }];
  return path in channels ? [{ op: "remove", path: `${place.at}/channels/${path}` }] : [];
}

/** The whole a part belongs to, and which part: `position_m[1]` is part 1 of `position_m`. */
function split(path: string): [string, number] | null {
  const match = /^(.*)\[(\d)\]$/.exec(path);
  return match ? [match[1], Number(match[2])] : null;
}

class Values {
  /** A value that a slider is being dragged to, not saved yet. */
  tried = $state.raw<{ element: number | null; path: string; value: number } | null>(null);
  #moment = $state.raw<Map<number, Element>>(new Map());
  #asked = 0;

  /** Fetches the elements with channels, sampled at the frame shown. */
  async refresh() {
    const id = shot.id;
    const document = shot.document;
    const frame = playback.frame;
    const turn = ++this.#asked;
    if (id === null || !document?.elements.some((e) => Object.keys(channelsOf(e)).length > 0)) {
      if (this.#moment.size > 0) this.#moment = new Map();
      return;
    }
    const moment = await api.at(id, frame).catch(() => null);
    if (moment && turn === this.#asked)
      this.#moment = new Map(
        (moment.elements as unknown as Element[]).map((element) => [element.id, element]),
      );
  }

  /** An element sampled at the frame shown. */
  now(element: Element): Element {
    const moment = this.#moment.get(element.id);
    // Without channels the document is newer.
    return moment && Object.keys(channelsOf(element)).length > 0 ? moment : element;
  }

  /** The shot sampled at the frame shown. */
  get document(): Shot | null {
    const document = shot.document;
    if (!document || this.#moment.size === 0) return document;
    return { ...document, elements: document.elements.map((element) => this.now(element)) };
  }

  get(target: Target): unknown {
    const owner = target.element ? this.now(target.element) : shot.document;
    return read(owner, target.path);
  }

  /** The channel of a value, or of the whole that it is a part of. */
  channel(target: Target): Channel | undefined {
    const channels = channelsOf(target.element ?? shot.document);
    const whole = split(target.path);
    return channels[target.path] ?? (whole ? channels[whole[0]] : undefined);
  }

  /** The channels that a value follows: its own, that of the whole it is a part of, or those of its parts. */
  channels(target: Target): [string, Channel][] {
    const all = channelsOf(target.element ?? shot.document);
    const whole = split(target.path)?.[0];
    for (const path of [target.path, whole]) if (path && all[path]) return [[path, all[path]]];
    return Object.entries(all).filter(([path]) => split(path)?.[0] === target.path);
  }

  /** Whether the elements meant have different values now. */
  differ(target: Target): boolean {
    if (target.ids.length < 2 || !target.element) return false;
    const [own, ...others] = meant(target).map((element) =>
      JSON.stringify(read(this.now(element), target.path) ?? null),
    );
    return others.some((other) => other !== own);
  }

  /** Tries a value in the Viewport before it is saved; null ends the trial. */
  try(target: Target, value: number | null) {
    this.tried = value === null ? null : { element: target.element?.id ?? null, path: target.path, value };
  }

  how(target: Target): How {
    const channels = this.channels(target).map(([, channel]) => channel);
    if (channels.length === 0) return "constant";
    const keyed = channels.filter((channel) => channel.expression == null);
    if (keyed.length === 0) return "formula";
    return keyed.some((channel) => keysOf(channel).some((key) => key.frame === playback.frame))
      ? "here"
      : "keyed";
  }

  #edit(target: Target, label: string, make: (document: Shot, id: number | null) => Operation[]) {
    const ids = target.element ? meant(target).map(({ id }) => id) : [null];
    const more = ids.length > 1 ? ` and ${ids.length - 1} more` : "";
    const of = target.element ? ` of ${target.element.name}${more}` : "";
    return shot.edit(`${label}${of}`, (document) => ids.flatMap((id) => make(document, id)));
  }

  /** Sets a constant, or keys a keyed value at this frame; a formula gives way. */
  set(target: Target, label: string, value: Value | null): Promise<boolean> {
    if (performing.on && value !== null) {
      performing.hold(target, value);
      performing.release(target);
      return Promise.resolve(true);
    }
    const frame = playback.frame;
    return this.#edit(target, label, (document, id) => {
      const place = placeOf(document, id);
      if (!place) return [];
      const channels = channelsOf(place.owner);
      const part = split(target.path);
      const own = channels[target.path];
      if (own?.keys?.length && value !== null)
        return channelOperations(document, id, target.path, withKey(own, frame, value));
      const whole = part && channels[part[0]];
      if (part && whole?.keys?.length && value !== null) {
        const old = read(this.now(place.owner as Element), part[0]) as number[];
        const next = old.with(part[1], value as number) as Value;
        return channelOperations(document, id, part[0], withKey(whole, frame, next));
      }
      return [
        ...channelOperations(document, id, target.path, null),
        // Adding to a list would put the value before the one that is there.
        { op: part ? "replace" : "add", path: place.at + pointer(target.path), value },
      ];
    });
  }

  /** Sets a value that cannot be keyed, on all elements meant; a function gets the old value of each. */
  assign(target: Target, label: string, value: unknown): Promise<boolean> {
    return this.#edit(target, label, (document, id) => {
      const place = placeOf(document, id);
      const next = typeof value === "function" ? value(place && read(place.owner, target.path)) : value;
      // Adding to a list would put the value before the old one.
      const op = split(target.path) ? "replace" : "add";
      return place ? [{ op, path: place.at + pointer(target.path), value: next }] : [];
    });
  }

  /** Keys the present value at this frame, or removes the key there. */
  toggleKey(target: Target, label: string) {
    return this.how(target) === "here" ? this.#removeKey(target, label) : this.key(target, label);
  }

  /** Keys the present value at this frame. */
  key(target: Target, label: string) {
    const frame = playback.frame;
    return this.#edit(target, `${label} keyed`, (document, id) =>
      this.#keyed(document, id, target).flatMap(({ path, channel, value }) =>
        channelOperations(document, id, path, withKey(channel, frame, value)),
      ),
    );
  }

  #removeKey(target: Target, label: string) {
    const frame = playback.frame;
    return this.#edit(target, `Key of ${label.toLowerCase()} removed`, (document, id) =>
      this.#keyed(document, id, target).flatMap(({ at, path, channel, value }) => {
        const left = withoutKey(channel, frame);
        const operations = channelOperations(document, id, path, left);
        // The value stays what it was at its last key.
        if (!left) operations.push({ op: split(path) ? "replace" : "add", path: at + pointer(path), value });
        return operations;
      }),
    );
  }

  /** What is keyed for a value: itself, or those of its parts that have channels of keys already. */
  #keyed(document: Shot, id: number | null, target: Target) {
    const place = placeOf(document, id);
    if (!place) return [];
    const channels = channelsOf(place.owner);
    const owner = id === null ? place.owner : this.now(place.owner as Element);
    const parts = Object.keys(channels).filter((path) => split(path)?.[0] === target.path);
    const whole = split(target.path)?.[0];
    const own =
      whole && channels[whole]
        ? [whole]
        : channels[target.path] || parts.length === 0
          ? [target.path]
          : parts;
    return own
      .filter((path) => channels[path]?.expression == null)
      .map((path) => ({
        at: place.at,
        path,
        channel: channels[path] as Channel | undefined,
        value: (read(owner, path) ?? this.get({ ...target, path })) as Value,
      }));
  }

  /** Sets or removes the formula of a value. A formula with a syntax error is not saved. */
  async setFormula(target: Target, label: string, expression: string | null) {
    if (expression !== null && shot.id !== null) {
      const asked = {
        element: target.element?.id ?? null,
        path: target.path,
        expression,
        frame: playback.frame,
      };
      const told = await api.formula(shot.id, asked).catch(() => null);
      if (told?.position != null) return false;
    }
    return this.#edit(target, `Formula for ${label.toLowerCase()}`, (document, id) =>
      channelOperations(document, id, target.path, expression === null ? null : { expression }),
    );
  }
}

export const values = new Values();
