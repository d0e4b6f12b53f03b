// Cameras and lights drawn as lines, for the views from outside the camera.
import * as THREE from "three";
import type { Element } from "../api/client";
import { matrixOf } from "./bodies";
import type { StageBodies } from "./frames";
import { SELECTED } from "./overlays";

type Point = [number, number, number];

const UNSELECTED = 0xe8eeec;

/** Pairs of points: a closed line through them. */
function loop(points: Point[]): Point[] {
  return points.flatMap((point, i) => [point, points[(i + 1) % points.length]]);
}

/** The camera's picture at 0.6 m before it, with a mark above its upper edge. */
function cameraLines(focal_mm: number, sensor_mm: number, aspect: number): Point[] {
  const depth = 0.6;
  const x = (0.5 * depth * sensor_mm) / focal_mm;
  const y = x / aspect;
  const corners: Point[] = [
    [-x, -y, -depth],
    [x, -y, -depth],
    [x, y, -depth],
    [-x, y, -depth],
  ];
  const rays = corners.flatMap((corner): Point[] => [[0, 0, 0], corner]);
  const above: Point[] = [
    [-0.3 * x, 1.1 * y, -depth],
    [0.3 * x, 1.1 * y, -depth],
    [0, 1.5 * y, -depth],
  ];
  return [...loop(corners), ...rays, ...loop(above)];
}

/** The light's surface and the way it shines. */
function areaLines([x, z]: number[]): Point[] {
  const corners: Point[] = [
    [-x / 2, 0, -z / 2],
    [x / 2, 0, -z / 2],
    [x / 2, 0, z / 2],
    [-x / 2, 0, z / 2],
  ];
  return [...loop(corners), [0, 0, 0], [0, -0.4, 0]];
}

/** A disc and the rays that leave it. */
function sunLines(): Point[] {
  const around = Array.from({ length: 16 }, (_, i): Point => {
    const angle = (i * Math.PI) / 8;
    return [0.2 * Math.cos(angle), 0, 0.2 * Math.sin(angle)];
  });
  const rays = around
    .filter((_, i) => i % 4 === 0)
    .flatMap(([x, , z]): Point[] => [
      [x, 0, z],
      [x, -0.8, z],
    ]);
  return [...loop(around), ...rays];
}

/** The lines of a camera or light; none for other elements. */
export function markerOf(element: Element, aspect: number): THREE.LineSegments | undefined {
  const is = element.is;
  const points =
    "camera" in is
      ? cameraLines(is.camera.focal_length_mm ?? 35, is.camera.sensor_mm ?? 36, aspect)
      : "area_light" in is
        ? areaLines(is.area_light.size_m)
        : "sun" in is
          ? sunLines()
          : undefined;
  if (!points) return undefined;
  const geometry = new THREE.BufferGeometry();
  geometry.setAttribute("position", new THREE.Float32BufferAttribute(points.flat(), 3));
  const material = new THREE.LineBasicMaterial({ color: UNSELECTED, toneMapped: false });
  const marker = new THREE.LineSegments(geometry, material);
  marker.userData.element = element.id;
  marker.matrixAutoUpdate = false;
  return marker;
}

export function placeMarker(marker: THREE.LineSegments, bodies: StageBodies, selected: boolean) {
  marker.matrix.copy(matrixOf(bodies, 0));
  marker.matrixWorldNeedsUpdate = true;
  (marker.material as THREE.LineBasicMaterial).color.set(selected ? SELECTED : UNSELECTED);
}
