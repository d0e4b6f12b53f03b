// What the Viewport shows of an element: one class for each kind of part, made by the list in items.ts.
import type * as THREE from "three";
import type { Element, Shot } from "../../api/client";
import type { MeasuredParticles } from "../../state/colouring";
import type { Judging } from "../appearance";
import type { BodiesOfFrame, MeshOfFrame, ParticlesOfFrame } from "../frames";
import type { Topologies } from "../deforming";
import type { Geometries } from "../geometry";
import type { Looks } from "../looks";
import type { MapSurface } from "../mapSurface";

/** What all that is drawn has in common. */
export interface DrawnContext {
  readonly scene: THREE.Scene;
  readonly looks: Looks;
  readonly geometries: Geometries;
  readonly topologies: Topologies;
  shot: Shot | null;
  shotId: number;
  /** Number of the frame. */
  frame: number;
  /** The picture's height, pixels. */
  height: number;
  /** How particles are judged, by element. */
  judging: (element: number) => Judging;
  /** Weights of a region, by element. */
  weights: Map<number, Float32Array> | null;
  /** Colours of the vertices of what deforms, by element; null: it has its own look. */
  colours: Map<number, Float32Array> | null;
  /** What is measured of particles, by element; null: they have their own look. */
  measured: Map<number, MeasuredParticles> | null;
  /** The plane that cuts liquids; null: they are whole. */
  cut: THREE.Plane | null;
  /** Elements on whose UVs a checker is laid; null: none. */
  checker: Set<number> | null;
  /** Meshes at rest that are shown in place of shapes where frames have none, by element. */
  atRest: Map<number, Pick<MapSurface, "mesh" | "topology">> | null;
  /** Where an asset's bytes are. */
  asset(name: string): string;
  /** +1 when a load begins, −1 when it ends or fails. */
  load(change: 1 | -1): void;
  /** A loaded object must be placed. */
  changed(): void;
  /** Shadows must be drawn anew. */
  shadows(): void;
}

/** What frames have of an element. */
export interface Parts {
  /** Of the run, or of the document. */
  bodies: BodiesOfFrame;
  mesh?: MeshOfFrame;
  particles?: ParticlesOfFrame;
  /** Of the run or frame that is shown over this one. */
  ghost?: BodiesOfFrame;
}

/** How an element is shown. */
export interface Manner {
  shown: boolean;
  selected: boolean;
  /** Whether it is being dragged, and keeps the pose of the drag. */
  held: boolean;
  collision: boolean;
  /** Whether the view is not the camera's. */
  outside: boolean;
  /** The point that the view looks at. */
  target: THREE.Vector3;
}

export interface Drawn {
  /** Takes over a changed element; false where it must be made anew for that. */
  update(element: Element): boolean;
  /** Shows what frames have of the element. */
  show(parts: Parts, manner: Manner): void;
  /** Distance at which a ray meets it; null where it does not. */
  pick(ray: THREE.Raycaster): number | null;
  dispose(): void;
}

/** Distance at which a ray meets an object that is seen. */
export const distanceTo = (ray: THREE.Raycaster, object: THREE.Object3D | undefined) =>
  (object?.visible && ray.intersectObject(object, false)[0]?.distance) || null;
