// Copies of a solid packed into another.
import { api, type Element } from "../api/client";
import { notices } from "./notices.svelte";
import { shot, solidOf } from "./shot.svelte";

class PackingState {
  into = $state("");
  count = $state(30);
  size_variation = $state(0.2);
  gap_m = $state(0.005);
  seed = $state(1);
  working = $state(false);
}

export const packing = new PackingState();

/** Places copies of an element within another; it may take a second. */
export async function packInto(element: Element, into: number) {
  packing.working = true;
  const { count, size_variation, gap_m, seed } = packing;
  await notices.attempt(async () => {
    const of = { element: element.id, into, count, size_variation, gap_m, seed };
    const { placed } = await api.pack(shot.id!, of);
    const solid = { ...solidOf(element)!, copies: null, placed };
    await shot.set(`${element.name} packed`, [element.id], "/kind/solid", solid);
  });
  packing.working = false;
}
