// A plane that cuts liquids open, so that one sees into them.
import * as THREE from "three";

export interface Cut {
  /** The axis that the plane is across: 0 is x. */
  axis: 0 | 1 | 2;
  /** Its place along the axis, m. */
  at_m: number;
  /** Whether what lies below it is taken away, in place of what lies above. */
  below: boolean;
}

/** The plane whose positive side is left. */
export function planeOf({ axis, at_m, below }: Cut): THREE.Plane {
  const normal = new THREE.Vector3().setComponent(axis, below ? 1 : -1);
  return new THREE.Plane(normal, below ? -at_m : at_m);
}
