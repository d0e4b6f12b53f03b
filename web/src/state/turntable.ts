// A camera that goes once around a point during the shot.
import type { Element, Operation, Shot, Vector } from "../api/client";
import { selection } from "./selection.svelte";
import { shot } from "./shot.svelte";
import { values } from "./values.svelte";

/** Radius of the way, and how far above it the camera is, m. */
const [RADIUS, ABOVE] = [4, 1.4];

/** The way around a point and a camera on it, as operations on a shot. */
export function turntable(document: Shot, centre: Vector): Operation[] {
  const next = Math.max(0, ...document.elements.map((element) => element.id)) + 1;
  const taken = new Set(document.elements.map((element) => element.name));
  const free = (stem: string) => {
    let name = stem;
    for (let n = 2; taken.has(name); n++) name = `${stem} ${n}`;
    return name;
  };
  const { first, last } = document.timing;
  const way = {
    id: next,
    name: free("Turntable"),
    placement: { position_m: centre },
    kind: { curve: { circle: { radius_m: RADIUS } } },
  };
  const camera = {
    id: next + 1,
    name: free("Turntable camera"),
    placement: { position_m: [0, ABOVE, 0] },
    kind: { camera: { focus_distance_m: Math.hypot(RADIUS, ABOVE) } },
    attached: { to: next, along: 0 },
    aim: { target: next },
    // The frame after the last is the first again: the loop closes.
    channels: {
      "attached.along": {
        keys: [
          { frame: first, value: 0 },
          { frame: last + 1, value: 1 },
        ],
        after: "repeat",
      },
    },
  };
  return [
    { op: "add", path: "/elements/-", value: way },
    { op: "add", path: "/elements/-", value: camera },
    { op: "add", path: "/camera", value: camera.id },
  ];
}

/** Adds a turntable around the selected element, or around the middle of the viewport. */
export function addTurntable() {
  const about: Element | undefined = shot.selected && values.now(shot.selected);
  const centre = (about?.placement?.position_m ?? [0, 0.5, 0]) as Vector;
  let camera = 0;
  return shot
    .edit("Turntable added", (document) => {
      const operations = turntable(document, centre);
      camera = operations[2].value as number;
      return operations;
    })
    .then((saved) => {
      if (saved) selection.only(camera);
      return saved;
    });
}
