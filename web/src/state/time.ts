/** Seconds as a person says them. */
export function spoken(seconds: number): string {
  if (!Number.isFinite(seconds)) return "";
  if (seconds < 1) return "under a second";
  if (seconds < 90) return `${Math.round(seconds)} s`;
  if (seconds < 5400) return `${Math.round(seconds / 60)} min`;
  return `${(seconds / 3600).toFixed(1)} h`;
}

export function bytes(count: number): string {
  if (count < 1e6) return `${Math.max(1, Math.round(count / 1e3))} kB`;
  if (count < 1e9) return `${(count / 1e6).toFixed(1)} MB`;
  return `${(count / 1e9).toFixed(2)} GB`;
}

export function ago(since: number): string {
  const seconds = Date.now() / 1000 - since;
  if (seconds < 60) return "just now";
  if (seconds < 3600) return `${Math.round(seconds / 60)} min ago`;
  if (seconds < 86400) return `${Math.round(seconds / 3600)} h ago`;
  return new Date(since * 1000).toLocaleDateString();
}
