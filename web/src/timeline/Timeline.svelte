<script lang="ts">
  import Transport from "./Transport.svelte";
  import ComputedBar from "./ComputedBar.svelte";
  import OnlySwitch from "./OnlySwitch.svelte";
  import SystemRow from "./SystemRow.svelte";
  import TimelineRow from "./TimelineRow.svelte";
  import FinishMenu from "./FinishMenu.svelte";
  import FinishRow from "./FinishRow.svelte";
  import type { Element } from "../api/client";
  import { stepsByElement } from "../state/finishing";
  import { keyedFrames } from "../state/keys";
  import { marks } from "../state/marks.svelte";
  import { performing } from "../state/performing.svelte";
  import { playback } from "../state/playback.svelte";
  import { lanes } from "../state/scale.svelte";
  import { countOf, deforms, shot, solidOf } from "../state/shot.svelte";

  type Group = { name: string; colour: string; rows: Element[] };

  let groups = $derived.by<Group[]>(() => {
    const still = (e: Element) => solidOf(e)?.body?.moves === "still";
    const pick = (name: string, colour: string, test: (e: Element) => boolean) => ({
      name,
      colour,
      rows: shot.elements.filter(test),
    });
    return [
      pick("Solids", "var(--solid)", (e) => "solid" in e.kind && !still(e) && !deforms(e)),
      pick("Cloth and soft", "var(--cloth)", deforms),
      pick("Particles", "var(--particles)", (e) => "particles" in e.kind),
      pick("Set", "var(--set)", (e) => "solid" in e.kind && still(e)),
      pick("Forces", "var(--force)", (e) => "force" in e.kind),
      pick("Regions", "var(--region)", (e) => "region" in e.kind),
      pick("Curves", "var(--curve)", (e) => "curve" in e.kind),
      pick("Cameras", "var(--camera)", (e) => "camera" in e.kind),
      pick("Light", "var(--light)", (e) => "sun" in e.kind || "sky" in e.kind || "area_light" in e.kind),
    ].filter((group) => group.rows.length > 0);
  });
  let steps = $derived(stepsByElement());
  let systems = $derived(playback.freshness?.systems ?? []);
  /** The particles that are solved apart from the solids, a system each. */
  let apart = $derived(systems.filter((system) => !["solids", "deformables"].includes(system.system)));
  /** The system whose frames are shown on the row of a group. */
  const systemOf = (group: Group) => {
    const members = (ids: number[]) => group.rows.some((element) => ids.includes(element.id));
    if (group.name === "Particles") return apart.length === 1 ? apart[0] : undefined;
    const computed = ["Solids", "Cloth and soft"].includes(group.name);
    return computed ? systems.find((of) => members(of.elements)) : undefined;
  };
  /** Groups of which none is computed show how whole frames stand. */
  let whole = $derived(!groups.some((group) => systemOf(group)) && apart.length === 0);
  let bodies = $derived(
    groups[0]?.name === "Solids" ? groups[0].rows.reduce((sum, e) => sum + countOf(e), 0) : 0,
  );
  let ticks = $derived.by(() => {
    const steps = [1, 2, 4, 6, 12, 24, 48, 96, 240, 480, 1200];
    const step = steps.find((step) => lanes.span / step <= 10) ?? 2400;
    const list = [playback.first];
    for (let f = Math.ceil((playback.first + step / 2) / step) * step; f < playback.end - step / 3; f += step)
      list.push(f);
    return [...list, playback.end];
  });
  let ruler: HTMLElement;
  let rows: HTMLElement;
  /** The box drawn around keys, on the page. */
  let around = $state.raw<{ left: number; top: number; width: number; height: number } | null>(null);

  /** Chooses the keys in a box drawn with Shift. */
  function choose(event: PointerEvent) {
    const [x, y] = [event.clientX, event.clientY];
    const move = (e: PointerEvent) =>
      (around = {
        left: Math.min(x, e.clientX),
        top: Math.min(y, e.clientY),
        width: Math.abs(e.clientX - x),
        height: Math.abs(e.clientY - y),
      });
    const done = () => {
      removeEventListener("pointermove", move);
      removeEventListener("pointerup", done);
      const box = around;
      around = null;
      if (!box) return marks.none();
      const inside = (r: DOMRect) =>
        r.left + r.width / 2 >= box.left &&
        r.left + r.width / 2 <= box.left + box.width &&
        r.top + r.height / 2 >= box.top &&
        r.top + r.height / 2 <= box.top + box.height;
      marks.list = shot.elements.flatMap((element) =>
        keyedFrames(element)
          .filter((frame) => {
            const mark = rows.querySelector(`[data-row="${element.id}"] [data-key="${frame}"]`);
            return mark && inside(mark.getBoundingClientRect());
          })
          .map((frame) => ({ element: element.id, path: null, frame })),
      );
    };
    addEventListener("pointermove", move);
    addEventListener("pointerup", done);
  }

  function scrub(event: PointerEvent) {
    if (event.button !== 0) return;
    if (event.shiftKey) return choose(event);
    marks.none();
    if (performing.state !== "off") return;
    const box = ruler.getBoundingClientRect();
    playback.pause();
    const move = (e: PointerEvent) => {
      const x = (100 * (e.clientX - box.left)) / box.width;
      playback.go(lanes.frameAt(x));
    };
    move(event);
    const done = () => {
      removeEventListener("pointermove", move);
      removeEventListener("pointerup", done);
    };
    addEventListener("pointermove", move);
    addEventListener("pointerup", done);
  }
</script>

<section
  class="col-start-1 grid min-h-0 grid-rows-[40px_22px_1fr] border-t border-line bg-panel"
  aria-label="Timeline"
>
  <Transport />
  <div class="grid grid-cols-[206px_1fr] text-faint">
    <span class="px-3 py-0.5">{shot.elements.length} elements</span>
    <div
      class="relative cursor-ew-resize border-b border-line"
      bind:this={ruler}
      onpointerdown={scrub}
      role="slider"
      tabindex="0"
      aria-label="Frame"
      aria-valuemin={playback.first}
      aria-valuemax={playback.last}
      aria-valuenow={playback.frame}
      onkeydown={(e) => {
        if (e.key === "ArrowLeft") playback.step(-1);
        if (e.key === "ArrowRight") playback.step(1);
        if (e.key === "Home") playback.go(playback.first);
        if (e.key === "End") playback.go(playback.last);
      }}
    >
      {#each ticks as tick (tick)}
        <span
          class="pointer-events-none absolute top-[3px] -translate-x-1/2 text-[11px]"
          style:left={`${lanes.at(tick)}%`}>{tick}</span
        >
      {/each}
      <span
        class="pointer-events-none absolute top-0.5 z-10 min-w-[27px] -translate-x-1/2 rounded-[9px] bg-lime px-1 text-center text-[11px] font-bold text-on-lime"
        style:left={`${lanes.at(playback.frame)}%`}>{playback.frame}</span
      >
    </div>
  </div>
  <div class="min-h-0 overflow-auto" bind:this={rows}>
    <div class="relative min-h-full">
      {#each groups as group, g (group.name)}
        <div class="grid h-[27px] grid-cols-[206px_1fr] items-center border-b border-line/50 bg-raised/40">
          <span class="flex items-center gap-2 px-3 font-[650]"
            ><i class="h-[9px] w-[9px] rounded-[3px]" style:background={group.colour}></i>{group.name}
            {#if g === 0 && bodies}<em class="ml-auto font-normal text-faint not-italic"
                >{bodies} {bodies === 1 ? "body" : "bodies"}</em
              >{/if}
            {#if group.name === "Particles" && groups[0].name === "Solids" && !apart.length}<em
                class="ml-auto font-normal text-faint not-italic"
                title="They push free bodies, become bodies or come from them">with the solids</em
              >{/if}
            {#if systemOf(group) && systems.length > 1}<OnlySwitch system={systemOf(group)!} />{/if}</span
          >
          <div class="relative h-full cursor-ew-resize" onpointerdown={scrub} role="presentation">
            {#if systemOf(group)}
              <ComputedBar stretches={systemOf(group)!.stretches} />
            {:else if g === 0 && whole}
              <ComputedBar stretches={playback.freshness?.stretches ?? []} />
            {/if}
          </div>
        </div>
        {#if group.name === "Particles" && apart.length > 1}
          {#each apart as system (system.system)}<SystemRow {system} {scrub} />{/each}
        {/if}
        {#if g === 0}
          {#each steps.get(null) ?? [] as step (step.id)}<FinishRow element={step} {scrub} />{/each}
          <div class="grid h-6 grid-cols-[206px_1fr] items-center border-b border-line/40">
            <span class="flex pl-[26px]"><FinishMenu /></span>
            <div class="h-full cursor-ew-resize" onpointerdown={scrub} role="presentation"></div>
          </div>
        {/if}
        {#each group.rows as element (element.id)}
          <TimelineRow {element} colour={group.colour} {scrub} />
          {#each steps.get(element.id) ?? [] as step (step.id)}<FinishRow element={step} {scrub} />{/each}
        {/each}
      {/each}
      <div class="pointer-events-none absolute inset-y-0 right-0 left-[206px]">
        <i class="absolute inset-y-0 w-[1.5px] bg-lime" style:left={`${lanes.at(playback.frame)}%`}></i>
      </div>
    </div>
  </div>
  {#if around}
    <i
      class="pointer-events-none fixed z-50 border border-lime bg-lime/10"
      style:left={`${around.left}px`}
      style:top={`${around.top}px`}
      style:width={`${around.width}px`}
      style:height={`${around.height}px`}
    ></i>
  {/if}
</section>
