// Sizes of liquids that were compared: in words, and taken over.
import type { Element, Operation, Schemas } from "../api/client";

type Size = Schemas["Size"];

/** A spacing: 12.5 mm. */
export const spacingWords = (size: Size): string => `${Number((1000 * size.spacing_m).toPrecision(3))} mm`;

/** How far a size is from the next. */
export function apartWords({ pixels, delay_frames }: Size): string {
  if (pixels == null || delay_frames == null) return "The shot as it is.";
  const frames = Math.abs(delay_frames).toFixed(1);
  const timing = frames === "0.0" ? "on time" : `${frames} frames ${delay_frames > 0 ? "late" : "early"}`;
  return `${pixels.toFixed(1)} pixels off the next, ${timing}.`;
}

/** What follows from a comparison. */
export function verdict({ sizes, enough }: Schemas["Enough"]): string {
  if (enough == null) return "Each can be told from the next: a smaller spacing may look better still.";
  return `${spacingWords(sizes[enough])} is enough: nobody could tell it from the next.`;
}

/** Multiplies the spacings of all liquids; they keep three digits. */
export function withSpacings(elements: readonly Element[], factor: number): Operation[] {
  return elements.flatMap(({ kind }, index): Operation[] => {
    const liquid = "particles" in kind ? kind.particles.liquid : null;
    if (!liquid) return [];
    const value = Number(((liquid.spacing_m ?? 0.02) * factor).toPrecision(3));
    return [{ op: "add", path: `/elements/${index}/kind/particles/liquid/spacing_m`, value }];
  });
}
