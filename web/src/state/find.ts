// Search by the words a person remembers, in any order.

export interface Entry<T> {
  name: string;
  /** Other words it is found by, such as the element a value belongs to. */
  also?: string;
  item: T;
}

/** How well a word is found in words: whole, at the start of one, inside one, not at all. */
function worth(word: string, words: string[]): number {
  let best = 0;
  for (const other of words) {
    if (other === word) return 3;
    if (other.startsWith(word)) best = Math.max(best, 2);
    else if (word.length > 1 && other.includes(word)) best = Math.max(best, 1);
  }
  return best;
}

const split = (text: string) =>
  text
    .toLowerCase()
    .split(/[^\p{L}\p{N}.]+/u)
    .filter(Boolean);

/** The entries that have every word of the query, the best first; at most `limit`. */
export function find<T>(query: string, entries: Entry<T>[], limit: number): Entry<T>[] {
  const wanted = split(query);
  if (wanted.length === 0) return entries.slice(0, limit);
  const found: { entry: Entry<T>; timeline: number }[] = [];
  for (const entry of entries) {
    const [names, also] = [split(entry.name), split(entry.also ?? "")];
    let timeline = 0;
    for (const word of wanted) {
      const here = Math.max(2 * worth(word, names), worth(word, also));
      timeline = here === 0 ? -Infinity : timeline + here;
    }
    // Of two that fit alike, the one with fewer other words is meant.
    if (timeline > 0) found.push({ entry, timeline: timeline - 0.1 * (names.length + 0.5 * also.length) });
  }
  return found
    .sort((a, b) => b.timeline - a.timeline)
    .slice(0, limit)
    .map(({ entry }) => entry);
}
