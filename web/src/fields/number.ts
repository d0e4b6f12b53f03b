// Numbers as fields show them.

/** Characters that a field of a row of three has room for. */
const MOST_CHARACTERS = 7;

/** A number times its scale: five digits, fewer where a narrow field has no room for them. */
export function shownNumber(value: number | null | undefined, scale: number, narrow: boolean): string {
  if (value === null || value === undefined) return "";
  for (let digits = 5; digits > 1; digits--) {
    const text = String(Number((value * scale).toPrecision(digits)));
    if (!narrow || text.length <= MOST_CHARACTERS) return text;
  }
  return String(Number((value * scale).toPrecision(1)));
}
