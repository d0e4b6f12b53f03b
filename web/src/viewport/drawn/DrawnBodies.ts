// The bodies of a solid: their mesh, the shape that frames give it, and the overlays on them.
import * as THREE from "three";
import type { Element } from "../../api/client";
import { countOf, solidOf } from "../../state/shot.svelte";
import { arrange, sameBodies, shade } from "../bodies";
import { DeformingGeometry } from "../deforming";
import { castsShadow } from "../looks";
import type { BodiesOfFrame, MeshOfFrame } from "../frames";
import { ItemOverlays } from "../itemOverlays";
import { forgetEdges } from "../overlays";
import { distanceTo, type Drawn, type DrawnContext, type Manner, type Parts } from "./drawn";

const keyOf = (element: Element) => JSON.stringify([solidOf(element)!.look, countOf(element)]);
/** Its shape and collision shape. */
function shapeOf(element: Element) {
  const solid = solidOf(element)!;
  return JSON.stringify([solid.shape, solid.uvs, solid.body?.collision, solid.body?.moves]);
}

export class DrawnBodies implements Drawn {
  static draws = (element: Element) => solidOf(element) !== undefined;

  mesh?: THREE.InstancedMesh;
  #key: string;
  #shape: string;
  /** The bodies of the last arrangement of the mesh. */
  #arranged?: BodiesOfFrame;
  /** Its rest shape, where frames have others. */
  #rest?: THREE.BufferGeometry;
  #deforming?: DeformingGeometry;
  #material?: THREE.Material;
  /** The colours that its vertices have. */
  #coloured?: Float32Array;
  #overlays: ItemOverlays;
  #disposed = false;

  constructor(
    private context: DrawnContext,
    private element: Element,
  ) {
    this.#key = keyOf(element);
    this.#shape = shapeOf(element);
    this.#overlays = new ItemOverlays(context.scene);
    void this.#build();
  }

  update(element: Element): boolean {
    if (keyOf(element) !== this.#key) return false;
    this.element = element;
    const shape = shapeOf(element);
    if (shape !== this.#shape) {
      this.#shape = shape;
      void this.#reshape();
    }
    return true;
  }

  show({ bodies, mesh: deformed, ghost }: Parts, { shown, selected, held, collision }: Manner) {
    const { mesh, context } = this;
    if (!mesh) return;
    if (mesh.visible !== shown) context.shadows();
    mesh.visible = shown;
    this.#deform(mesh, deformed);
    this.#colour(mesh);
    if (!held && !(this.#arranged && sameBodies(this.#arranged, bodies))) {
      arrange(mesh, bodies);
      this.#arranged = bodies;
      context.shadows();
    }
    const base = { geometry: mesh.geometry, count: countOf(this.element) };
    this.#overlays.outline(selected && shown ? base : null, bodies);
    this.#collision(mesh, collision && shown ? bodies : null);
    this.#overlays.weights(base, bodies, shown ? context.weights?.get(this.element.id) : undefined);
    const still = solidOf(this.element)?.body?.moves === "still";
    this.#overlays.ghost(base, still ? undefined : ghost);
  }

  pick(ray: THREE.Raycaster) {
    return distanceTo(ray, this.mesh);
  }

  /** Makes the next picture arrange bodies anew that a drag has moved. */
  dropped() {
    this.#arranged = undefined;
  }

  dispose() {
    this.#disposed = true;
    this.#overlays.dispose();
    this.#deforming?.dispose();
    if (!this.mesh) return;
    this.context.scene.remove(this.mesh);
    this.mesh.dispose();
  }

  async #geometry(): Promise<THREE.BufferGeometry | null> {
    const { context } = this;
    const shape = this.#shape;
    context.load(1);
    const geometry = await context.geometries
      .get(context.shotId, context.shot!, this.element, context.frame)
      .catch(() => null);
    context.load(-1);
    return !this.#disposed && this.#shape === shape ? geometry : null;
  }

  /** Replaces the shape of a body once the new one is loaded. */
  async #reshape() {
    const geometry = await this.#geometry();
    if (!geometry) return;
    if (!this.mesh) return void this.#build();
    this.#overlays.clear();
    this.mesh.geometry = this.#rest = geometry;
    this.context.shadows();
    this.context.changed();
  }

  async #build() {
    const { context, element } = this;
    const geometry = await this.#geometry();
    if (!geometry || this.mesh) return;
    const look = solidOf(element)!.look ?? {};
    const material = context.looks.get(look, (name) => context.asset(name));
    this.#material = material;
    this.mesh = new THREE.InstancedMesh(geometry, material, countOf(element));
    this.#rest = geometry;
    this.mesh.castShadow = this.mesh.receiveShadow = true;
    shade(this.mesh, look.variation ?? 0);
    context.scene.add(this.mesh);
    context.changed();
  }

  /** Gives the mesh the shape that the frame has for it, or its rest shape. */
  #deform(mesh: THREE.InstancedMesh, deformed: MeshOfFrame | undefined) {
    const { context } = this;
    const atRest = context.atRest?.get(this.element.id);
    if (!deformed && atRest) {
      const deforming = (this.#deforming ??= new DeformingGeometry());
      if (!deforming.shows(atRest.mesh)) deforming.show(atRest.mesh, atRest.topology);
      if (mesh.geometry !== deforming.geometry) this.#reform(mesh, deforming.geometry);
      return;
    }
    if (!deformed) {
      if (this.#rest && mesh.geometry !== this.#rest) this.#reform(mesh, this.#rest);
      return;
    }
    const deforming = (this.#deforming ??= new DeformingGeometry());
    if (deforming.shows(deformed)) {
      if (mesh.geometry !== deforming.geometry) this.#reform(mesh, deforming.geometry);
      return;
    }
    const topology = context.topologies.known(context.shotId, deformed.topology);
    if (topology) {
      deforming.show(deformed, topology);
      return this.#reform(mesh, deforming.geometry);
    }
    context.load(1);
    const loaded = () => context.load(-1);
    context.topologies.get(context.shotId, deformed).then(loaded, loaded);
  }

  /** Shows a checker, the colours of the vertices, or its look. */
  #colour(mesh: THREE.InstancedMesh) {
    const { context, element } = this;
    const colours = context.colours?.get(element.id);
    const deforms = this.#deforming && mesh.geometry === this.#deforming.geometry;
    if (colours && deforms && this.#deforming!.colour(colours)) this.#coloured = colours;
    const coloured = colours !== undefined && deforms && this.#coloured === colours;
    const checked = context.checker?.has(element.id) ?? false;
    const own = coloured ? context.looks.measured : this.#material!;
    const material = checked ? context.looks.checker : own;
    mesh.material = element.see_through ? context.looks.seeThrough(material) : material;
    const casts = !element.see_through && castsShadow(solidOf(element)!.look);
    if (mesh.castShadow !== casts) context.shadows();
    mesh.castShadow = casts;
  }

  #reform(mesh: THREE.InstancedMesh, geometry: THREE.BufferGeometry) {
    mesh.geometry = geometry;
    mesh.boundingSphere = mesh.boundingBox = null;
    forgetEdges(geometry);
    this.#overlays.clear();
    this.context.shadows();
  }

  #collision(mesh: THREE.InstancedMesh, bodies: BodiesOfFrame | null) {
    const { context, element } = this;
    this.#overlays.collision(bodies);
    if (!bodies || this.#overlays.hasCollision) return;
    const count = countOf(element);
    // A mesh that frames deform is met as it is.
    if (this.#deforming?.geometry === mesh.geometry)
      return this.#overlays.setCollision({ geometry: mesh.geometry, count });
    void context.geometries.collision(context.shotId, context.shot!, element).then((geometry) => {
      if (this.#disposed) return;
      this.#overlays.setCollision({ geometry, count });
      context.changed();
    });
  }
}
