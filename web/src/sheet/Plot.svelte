<script lang="ts">
  import uPlot from "uplot";
  import "uplot/dist/uPlot.min.css";

  interface Props {
    frames: number[];
    lines: { name: string; values: number[]; colour: string }[];
    at: number;
  }
  let { frames, lines, at }: Props = $props();
  let box: HTMLElement;
  let plot: uPlot | undefined;

  function colour(value: string): string {
    const name = /var\((--[\w-]+)\)/.exec(value)?.[1];
    return name ? getComputedStyle(document.documentElement).getPropertyValue(name).trim() : value;
  }

  $effect(() => {
    const grid = { stroke: colour("var(--line)"), width: 0.5 };
    const axis = { stroke: colour("var(--soft)"), grid, ticks: { show: false }, font: "10px sans-serif" };
    plot = new uPlot(
      {
        width: box.clientWidth,
        height: 120,
        legend: { show: false },
        cursor: { show: false },
        scales: { x: { time: false }, a: {}, b: {} },
        axes: [
          { ...axis, size: 20 },
          { ...axis, scale: "a", size: 32 },
          { ...axis, scale: "b", size: 32, side: 1, grid: { show: false } },
        ],
        series: [
          {},
          ...lines.map((line, i) => ({
            label: line.name,
            stroke: colour(line.colour),
            width: 1.5,
            scale: i ? "b" : "a",
          })),
        ],
        hooks: {
          draw: [
            (u) => {
              const x = u.valToPos(at, "x", true);
              u.ctx.fillStyle = colour("var(--lime)");
              u.ctx.fillRect(x, u.bbox.top, 1.5, u.bbox.height);
            },
          ],
        },
      },
      [frames, ...lines.map((line) => line.values)],
      box,
    );
    return () => plot?.destroy();
  });

  $effect(() => {
    void at;
    plot?.redraw(false);
  });

  let summary = $derived(
    lines
      .map(
        (line) =>
          `${line.name} ${Math.min(...line.values).toFixed(2)} to ${Math.max(...line.values).toFixed(2)}`,
      )
      .join(", "),
  );
</script>

<div
  class="rounded-lg bg-ground py-1"
  bind:this={box}
  role="img"
  aria-label={`Plot over frames: ${summary}`}
></div>
<p class="mt-1 flex gap-3 text-faint">
  {#each lines as line (line.name)}<span
      ><i class="mr-1 inline-block h-1 w-3 rounded" style:background={line.colour}></i>{line.name}</span
    >{/each}
</p>
