<script lang="ts">
  // A measurement of one run over those of the others.
  import { extentOf, type Line } from "./measures";

  interface Props {
    own: Line;
    others: Line[];
    name: string;
    unit: string;
  }
  let { own, others, name, unit }: Props = $props();
  const [WIDTH, HEIGHT] = [100, 40];
  let extent = $derived(extentOf([own, ...others]));
  const points = ({ frames, values }: Line) =>
    frames
      .map((frame, i) => {
        const x = (WIDTH * (frame - extent.first)) / Math.max(1, extent.last - extent.first);
        const y = HEIGHT - 2 - ((HEIGHT - 4) * (values[i] - extent.low)) / (extent.high - extent.low);
        return `${x.toFixed(2)},${y.toFixed(2)}`;
      })
      .join(" ");
  let highest = $derived(own.values.length ? Math.max(...own.values) : 0);
  let words = $derived(`${Number(highest.toPrecision(3))}${unit ? ` ${unit}` : ""}`);
</script>

<div
  class="min-w-0"
  role="img"
  aria-label={`${name} over frames ${extent.first} to ${extent.last}, at most ${words}`}
>
  <svg
    class="h-[62px] w-full rounded bg-ground"
    viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
    preserveAspectRatio="none"
    aria-hidden="true"
  >
    {#each others as line, i (i)}
      <polyline
        points={points(line)}
        fill="none"
        stroke="var(--faint)"
        stroke-opacity="0.55"
        stroke-width="1.25"
        vector-effect="non-scaling-stroke"
      />
    {/each}
    <polyline
      points={points(own)}
      fill="none"
      stroke="var(--aqua)"
      stroke-width="1.75"
      vector-effect="non-scaling-stroke"
    />
  </svg>
  <p class="mt-0.5 flex justify-between text-soft">
    <span>{name}</span><span>at most {words}</span>
  </p>
</div>
