<script lang="ts">
  import { Tabs } from "bits-ui";
  import EventList from "./EventList.svelte";
  import FinishTab from "./FinishTab.svelte";
  import EmissionTab from "./EmissionTab.svelte";
  import BodyTab from "./BodyTab.svelte";
  import CameraTab from "./CameraTab.svelte";
  import ParticleBodyTab from "./ParticleBodyTab.svelte";
  import CurveTab from "./CurveTab.svelte";
  import ForceTab from "./ForceTab.svelte";
  import LightTab from "./LightTab.svelte";
  import LookTab from "./LookTab.svelte";
  import PlacementTab from "./PlacementTab.svelte";
  import RegionTab from "./RegionTab.svelte";
  import ShapeTab from "./ShapeTab.svelte";
  import ShotTab from "./ShotTab.svelte";
  import ShowTab from "./ShowTab.svelte";
  import { kindOf, type Schemas } from "../api/client";
  import { desk } from "../state/desk.svelte";
  import { wordsOf } from "../state/finishing";
  import { FORCE_NAMES } from "../state/forces";
  import { selection } from "../state/selection.svelte";
  import { countOf, madeAs, particlesOf, shot, solidOf } from "../state/shot.svelte";

  const SHEETS: Record<string, string> = {
    camera: "Lens",
    force: "Force",
    region: "Region",
    curve: "Curve",
    finish: "Finish",
  };
  let element = $derived(shot.selected);
  let solid = $derived(solidOf(element));
  let particles = $derived(particlesOf(element));
  let tabs = $derived<[typeof desk.tab, string][]>(
    particles
      ? [
          ["shape", "Births"],
          ["body", "Body"],
          ["events", "Events"],
          ["look", "Show"],
          ["placement", "Placement"],
        ]
      : solid
        ? [
            ["shape", "Shape"],
            ["body", "Body"],
            ["look", "Look"],
            ["placement", "Placement"],
          ]
        : element && "finish" in element.kind && !("place" in element.kind.finish.operation)
          ? [["body", "Finish"]]
          : [
              ["body", SHEETS[element ? Object.keys(element.kind)[0] : ""] ?? "Light"],
              ["placement", "Placement"],
            ],
  );
  let tab = $derived(tabs.some(([key]) => key === desk.tab) ? desk.tab : "body");
  let sub = $derived.by(() => {
    if (!element) return "";
    if (selection.ids.length > 1) return `and ${selection.ids.length - 1} more selected`;
    if ("force" in element.kind)
      return `force: ${FORCE_NAMES[kindOf(element.kind.force.kind)].toLowerCase()}`;
    if (particles) return "particles";
    if ("finish" in element.kind) return `finishing step: ${wordsOf(element)}`;
    if (!solid) return Object.keys(element.kind)[0].replace("_", " ");
    const body = solid.body;
    const moves =
      body?.moves === "animated"
        ? body.wake
          ? `animated until ${woken(body.wake)}, then free`
          : "animated"
        : body?.moves === "still"
          ? "still"
          : body?.wake
            ? `waits until ${woken(body.wake)}, then free`
            : "free";
    const count = countOf(element);
    const made = { rigid: "", cloth: "Cloth", soft: "Soft body" }[madeAs(element)];
    if (made) return `${made}${count > 1 ? `, ${count} copies` : ""}`;
    if (solid.from_particles != null) return `Solid, its bodies come from particles`;
    return `Solid, ${moves}${count > 1 ? `, ${count} copies` : ""}`;
  });

  function woken(wake: Schemas["Wake"]): string {
    if ("frame" in wake) return `frame ${wake.frame}`;
    if ("touch" in wake) return "touched";
    if ("neighbour" in wake) return "a neighbour wakes";
    return `in ${shot.element(wake.region)?.name ?? "a region"}`;
  }

  async function rename(event: Event & { currentTarget: HTMLInputElement }) {
    const input = event.currentTarget;
    const name = input.value.trim();
    if (!element || name === element.name) return;
    const saved = await shot.set(`Renamed ${name}`, [element.id], "/name", name);
    if (!saved) input.value = element.name;
  }
</script>

<aside
  class="col-start-2 row-span-2 row-start-1 min-h-0 overflow-auto border-l border-line bg-panel px-3.5 pt-3 pb-6"
  aria-label="Sheet"
>
  {#if element}
    <input
      class="w-full rounded bg-transparent text-[17px] font-[680] tracking-tight hover:bg-ground"
      value={element.name}
      onchange={rename}
      aria-label="Name"
      maxlength="80"
    />
    <p class="mt-0.5 mb-2.5 text-soft">{sub}</p>
    <Tabs.Root value={tab} onValueChange={(next) => (desk.tab = next as typeof desk.tab)}>
      <Tabs.List class="mb-3 flex rounded-lg bg-ground p-[3px]">
        {#each tabs as [key, name] (key)}
          <Tabs.Trigger
            value={key}
            class="flex-auto rounded-md px-1.5 py-1 text-soft data-[state=active]:bg-raised data-[state=active]:font-semibold data-[state=active]:text-ink"
            >{name}</Tabs.Trigger
          >
        {/each}
      </Tabs.List>
      <Tabs.Content value="shape"
        >{#if solid}<ShapeTab {element} {solid} />{:else if particles}<EmissionTab
            {element}
            {particles}
          />{/if}</Tabs.Content
      >
      <Tabs.Content value="body">
        {#if solid}<BodyTab {element} {solid} />{:else if particles}<ParticleBodyTab
            {element}
            {particles}
          />{:else if "camera" in element.kind}<CameraTab
            {element}
          />{:else if "force" in element.kind}<ForceTab
            {element}
          />{:else if "region" in element.kind}<RegionTab
            {element}
          />{:else if "curve" in element.kind}<CurveTab
            {element}
          />{:else if "finish" in element.kind}<FinishTab {element} />{:else}<LightTab {element} />{/if}
      </Tabs.Content>
      <Tabs.Content value="events"
        >{#if particles}<EventList {element} {particles} />{/if}</Tabs.Content
      >
      <Tabs.Content value="look"
        >{#if solid}<LookTab {element} {solid} />{:else if particles}<ShowTab
            {element}
            {particles}
          />{/if}</Tabs.Content
      >
      <Tabs.Content value="placement"><PlacementTab {element} /></Tabs.Content>
    </Tabs.Root>
  {:else}
    <ShotTab />
  {/if}
</aside>
