<script lang="ts">
  // The map that is shown on its element in the Viewport, and its brush, once the pointer can paint.
  import PaintBar from "./PaintBar.svelte";
  import type { Viewport } from "./Viewport";
  import { coloursOf } from "../state/colouring";
  import { painting } from "../state/painting.svelte";
  import { playback } from "../state/playback.svelte";
  import { shot } from "../state/shot.svelte";

  /** `arranged` counts up when the Viewport shows another frame. */
  let { viewport, arranged }: { viewport: Viewport; arranged: number } = $props();

  // A map is shown on its element, and painted.
  $effect(() => {
    void shot.state?.revision;
    void painting.shown;
    void painting.picking;
    void painting.load(playback.frame);
  });
  $effect(() => {
    void arranged;
    const { shown, surface, on, picking } = painting;
    const element = picking?.element ?? shown?.element;
    viewport.setAtRest(element !== undefined && surface ? new Map([[element, surface]]) : null);
    if (shown && surface && !picking)
      viewport.setColours(new Map([[shown.element, coloursOf(surface.weights, 1)]]));
    const rest = surface?.places;
    const [of, radius] = picking ? [picking, 0.03] : [on, painting.radius_m];
    viewport.setBrush(of && rest ? { element: of.element, rest, radius } : null);
  });
  // It ends with the selection of its element, and where the element, map or layer is gone.
  $effect(() => {
    const { shown, on, picking } = painting;
    if (picking && shot.selected?.id !== picking.element) painting.picking = null;
    const layer = on && painting.map?.layers[on.layer];
    if (shown && (!painting.map || shot.selected?.id !== shown.element)) painting.shown = painting.on = null;
    else if (on && !(layer && "painted" in layer.source)) painting.on = null;
  });
</script>

{#if painting.on && painting.surface}<PaintBar />{/if}
{#if painting.picking && painting.surface}
  <div
    class="absolute bottom-3 left-1/2 flex -translate-x-1/2 items-center gap-3 rounded-lg bg-[#12181af0] px-3 py-2"
    role="status"
  >
    Press where the pin is to hold.
    <button class="btn" onclick={() => (painting.picking = null)}>Leave it</button>
  </div>
{/if}
