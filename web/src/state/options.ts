// Elements as the choices of a Picker.
import type { Element } from "../api/client";
import { shot } from "./shot.svelte";

export type Option = [value: string, words: string];

export const named = (list: Element[]) => list.map((e): Option => [String(e.id), e.name]);

/** The elements of the shot that pass a test. */
export const options = (test: (element: Element) => boolean) => named(shot.elements.filter(test));
