// Answers that come only while they are wanted.

/** Gives the answer to a question to `use`, null if there is none; what this returns stops that. For an effect to return: what was
 * asked of another element, or by a component that is gone, is not used. */
export function answered<T>(question: Promise<T>, use: (found: T | null) => void): () => void {
  let wanted = true;
  question.then(
    (found) => wanted && use(found),
    () => wanted && use(null),
  );
  return () => (wanted = false);
}
