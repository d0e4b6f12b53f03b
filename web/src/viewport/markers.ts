// Cameras and lights drawn as lines, for the views from outside the camera.
import * as THREE from "three";
import type { Element, Schemas } from "../api/client";
import { matrixOf } from "./bodies";
import type { BodiesOfFrame } from "./frames";
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

/** A circle in the xz plane at a height. */
function circle(radius: number, y = 0, from = 0): Point[] {
  const corner = (i: number): Point => {
    const angle = (2 * Math.PI * i) / 32;
    return [radius * Math.cos(angle), y, radius * Math.sin(angle)];
  };
  return loop(Array.from({ length: 32 - from }, (_, i) => corner(i)));
}

const upright = (points: Point[]): Point[] => points.map(([x, y, z]) => [x, z, y]);
const sideways = (points: Point[]): Point[] => points.map(([x, y, z]) => [y, x, z]);

/** An arrow along −y. */
function arrow(length: number, at: Point = [0, 0, 0]): Point[] {
  const [x, y, z] = at;
  const tip: Point = [x, y - length, z];
  const barb = 0.1;
  return [at, tip, tip, [x - barb, y - length + 2 * barb, z], tip, [x + barb, y - length + 2 * barb, z]];
}

function forceLines(kind: Schemas["ForceKind"]): Point[] {
  if ("pull" in kind) return arrow(0.9);
  if ("wind" in kind) return [...arrow(1.1), ...arrow(0.7, [-0.28, 0, 0]), ...arrow(0.7, [0.28, 0, 0])];
  if ("vortex" in kind)
    return [0.35, 0.7, 1.05].flatMap((y, i) => circle((kind.vortex.core_m ?? 0.5) * (0.6 + 0.3 * i), y, 3));
  if ("attract" in kind)
    return [
      ...circle(0.12),
      ...[0, 1, 2, 3].flatMap((i): Point[] => {
        const [x, z] = [Math.cos((i * Math.PI) / 2), Math.sin((i * Math.PI) / 2)];
        return [
          [0.6 * x, 0, 0.6 * z],
          [0.22 * x, 0, 0.22 * z],
        ];
      }),
    ];
  if ("turbulence" in kind)
    return [-0.2, 0.2].flatMap((y) =>
      line(
        Array.from({ length: 17 }, (_, i): Point => {
          const x = (i - 8) / 14;
          return [x, y + 0.12 * Math.sin(10 * x), 0.1 * Math.cos(7 * x)];
        }),
      ),
    );
  if ("drag" in kind) return [...circle(0.25), ...upright(circle(0.25))];
  return [];
}

function regionLines(volume: Schemas["Volume"]): Point[] {
  if ("box" in volume) {
    const [x, y, z] = volume.box.size_m.map((v) => v / 2);
    const floor = (h: number): Point[] => [
      [-x, h, -z],
      [x, h, -z],
      [x, h, z],
      [-x, h, z],
    ];
    return [...loop(floor(-y)), ...loop(floor(y)), ...floor(-y).flatMap((p, i): Point[] => [p, floor(y)[i]])];
  }
  if ("sphere" in volume) {
    const r = volume.sphere.radius_m;
    return [...circle(r), ...upright(circle(r)), ...sideways(circle(r))];
  }
  if ("cylinder" in volume) {
    const { radius_m: r, height_m: h } = volume.cylinder;
    const sides = [r, -r].flatMap((v): Point[] => [
      [v, -h / 2, 0],
      [v, h / 2, 0],
      [0, -h / 2, v],
      [0, h / 2, v],
    ]);
    return [...circle(r, h / 2), ...circle(r, -h / 2), ...sides];
  }
  if ("half_space" in volume)
    return [
      ...loop([
        [-1.5, 0, -1.5],
        [1.5, 0, -1.5],
        [1.5, 0, 1.5],
        [-1.5, 0, 1.5],
      ]),
      ...arrow(0.5),
    ];
  return circle(0.3);
}

/** Where particles are born, and the way they start. */
function sourceLines(from: Schemas["Source"] | undefined): Point[] {
  const up = arrow(0.35).map(([x, y, z]): Point => [x / 2, -y, z / 2]);
  if (!from || !("shape" in from)) return [...circle(0.08), ...up];
  const { shape } = from.shape;
  if ("sphere" in shape) return [...regionLines({ sphere: { radius_m: shape.sphere.radius_m } }), ...up];
  if ("box" in shape) return [...regionLines({ box: { size_m: shape.box.size_m } }), ...up];
  if ("cylinder" in shape) return [...regionLines({ cylinder: shape.cylinder }), ...up];
  if ("plane" in shape) {
    const [x, z] = shape.plane.size_m.map((v) => v / 2);
    return [
      ...loop([
        [-x, 0, -z],
        [x, 0, -z],
        [x, 0, z],
        [-x, 0, z],
      ]),
      ...up,
    ];
  }
  if ("torus" in shape) return [...circle(shape.torus.major_radius_m), ...up];
  return [...circle(0.3), ...up];
}

/** Pairs of points: an open line through them. */
function line(points: Point[]): Point[] {
  return points.slice(1).flatMap((point, i) => [points[i], point]);
}

/** Pairs of points: lines through the points of strokes. */
export function linesThrough(strokes: Point[][]): Point[] {
  return strokes.flatMap(line);
}

/** The lines of a camera, light, force or region; none for other elements. */
export function markerOf(element: Element, aspect: number): THREE.LineSegments | undefined {
  const kind = element.kind;
  const points =
    "camera" in kind
      ? cameraLines(kind.camera.focal_length_mm ?? 35, kind.camera.sensor_mm ?? 36, aspect)
      : "area_light" in kind
        ? areaLines(kind.area_light.size_m)
        : "sun" in kind
          ? sunLines()
          : "force" in kind
            ? forceLines(kind.force.kind)
            : "region" in kind
              ? regionLines(kind.region.volume)
              : "particles" in kind
                ? sourceLines(kind.particles.source)
                : [];
  return points.length > 0 ? markerOfLines(element.id, points) : undefined;
}

/** Lines that stand for an element. */
export function markerOfLines(element: number, points: Point[]): THREE.LineSegments {
  const geometry = new THREE.BufferGeometry();
  geometry.setAttribute("position", new THREE.Float32BufferAttribute(points.flat(), 3));
  const material = new THREE.LineBasicMaterial({ color: UNSELECTED, toneMapped: false });
  const marker = new THREE.LineSegments(geometry, material);
  marker.userData.element = element;
  marker.matrixAutoUpdate = false;
  return marker;
}

export function placeMarker(marker: THREE.LineSegments, bodies: BodiesOfFrame, selected: boolean) {
  marker.matrix.copy(matrixOf(bodies, 0));
  marker.matrixWorldNeedsUpdate = true;
  (marker.material as THREE.LineBasicMaterial).color.set(selected ? SELECTED : UNSELECTED);
}
