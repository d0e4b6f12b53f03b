// Numbers in words.

/** A share of something: in per cent, or as a multiple where it is large. */
export const percent = (share: number): string =>
  share < 10 ? `${(100 * share).toFixed(share < 0.1 ? 1 : 0)} %` : `${share.toFixed(0)} ×`;
