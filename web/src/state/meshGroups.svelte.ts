// The groups of faces that imported meshes came with, asked for once by asset.
import { api, type Element } from "../api/client";
import { shot, solidOf } from "./shot.svelte";

class MeshGroups {
  #known = $state.raw<Record<string, string[]>>({});
  #asked = new Set<string>();

  /** Names of the groups of an element's mesh; empty until they are known. */
  of(element: Element): string[] {
    const shape = solidOf(element)?.shape;
    if (!shape || !("mesh" in shape) || shot.id === null) return [];
    const sha256 = shot.document?.assets?.[shape.mesh.asset]?.sha256 ?? "";
    if (!this.#asked.has(sha256)) {
      this.#asked.add(sha256);
      void api.meshFacts(shot.id, element.id).then(
        ({ groups }) => (this.#known = { ...this.#known, [sha256]: groups }),
        () => this.#asked.delete(sha256),
      );
    }
    return this.#known[sha256] ?? [];
  }
}

export const meshGroups = new MeshGroups();
