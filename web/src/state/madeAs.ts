// What a solid starts with when it is made cloth or soft.

/** Parts of the longest side: edges of cloth, cells of a soft body, edges of its surface. */
const PARTS = { cloth: 40, cell: 8, surface: 16 };

/** A length of two significant digits. */
const rounded = (length: number) => Number(length.toPrecision(2));

/** Edges and cells by the size of the shape, m. */
export function startOf(as: "cloth" | "soft", size_m: number[]) {
  const longest = Math.max(...size_m);
  return as === "cloth"
    ? { edge_m: rounded(longest / PARTS.cloth) }
    : { cell_m: rounded(longest / PARTS.cell), edge_m: rounded(longest / PARTS.surface) };
}
