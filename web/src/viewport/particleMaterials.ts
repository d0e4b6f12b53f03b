// The shaders of particles: spheres and streaks, lit by the sky.
import * as THREE from "three";

const LIGHT = /* glsl */ `
  #include <clipping_planes_pars_fragment>
  uniform vec3 albedo;
  uniform vec3 emission;
  varying vec3 tone;
  vec3 lit(vec3 normal) {
    float sky = 0.62 + 0.38 * dot(normal, normalize((viewMatrix * vec4(0.25, 1.0, 0.35, 0.0)).xyz));
    return tone * (albedo * sky + emission);
  }`;
const OUT = /* glsl */ `
    #include <tonemapping_fragment>
    #include <colorspace_fragment>`;

/** Spheres, drawn as discs that face the eye. */
export const SPHERE = {
  vertexShader: /* glsl */ `
    #include <clipping_planes_pars_vertex>
    attribute vec3 colour;
    attribute float size;
    uniform float height;
    varying vec3 tone;
    void main() {
      tone = colour;
      vec4 at = modelViewMatrix * vec4(position, 1.0);
      vec4 mvPosition = at;
      #include <clipping_planes_vertex>
      gl_Position = projectionMatrix * at;
      gl_PointSize = max(1.5, size * height * 0.5 * projectionMatrix[1][1] / -at.z);
    }`,
  fragmentShader: /* glsl */ `${LIGHT}
    void main() {
      #include <clipping_planes_fragment>
      vec2 p = vec2(gl_PointCoord.x, 1.0 - gl_PointCoord.y) * 2.0 - 1.0;
      float square = dot(p, p);
      if (square > 1.0) discard;
      gl_FragColor = vec4(lit(vec3(p, sqrt(1.0 - square))), 1.0);${OUT}
    }`,
};

/** Lines with round ends, as thick as the particle. */
export const STREAK = {
  vertexShader: /* glsl */ `
    #include <clipping_planes_pars_vertex>
    attribute vec3 head;
    attribute vec3 tail;
    attribute vec3 colour;
    attribute float size;
    uniform float height;
    varying vec3 tone;
    varying vec2 at;
    varying float reach;
    void main() {
      tone = colour;
      vec4 a = modelViewMatrix * vec4(tail, 1.0);
      vec4 b = modelViewMatrix * vec4(head, 1.0);
      vec4 mvPosition = b;
      #include <clipping_planes_vertex>
      float pixel = -b.z / (height * 0.5 * projectionMatrix[1][1]);
      float radius = max(0.5 * size, 0.75 * pixel);
      vec2 way = b.xy - a.xy;
      float length2 = length(way);
      vec2 along = length2 > 1e-9 ? way / length2 : vec2(1.0, 0.0);
      vec2 across = vec2(-along.y, along.x);
      float s = position.x;
      vec4 mid = mix(a, b, s);
      mid.xy += along * (s * 2.0 - 1.0) * radius + across * position.y * radius;
      reach = length2 / radius;
      at = vec2(mix(-1.0, reach + 1.0, s), position.y);
      gl_Position = projectionMatrix * mid;
    }`,
  fragmentShader: /* glsl */ `${LIGHT}
    varying vec2 at;
    varying float reach;
    void main() {
      #include <clipping_planes_fragment>
      float x = at.x - clamp(at.x, 0.0, reach);
      float square = x * x + at.y * at.y;
      if (square > 1.0) discard;
      gl_FragColor = vec4(lit(vec3(0.0, at.y, sqrt(1.0 - square))), 1.0);${OUT}
    }`,
};

export function material(code: typeof SPHERE): THREE.ShaderMaterial {
  return new THREE.ShaderMaterial({
    ...code,
    clipping: true,
    side: THREE.DoubleSide,
    uniforms: {
      albedo: { value: new THREE.Vector3(0.6, 0.6, 0.6) },
      emission: { value: new THREE.Vector3() },
      height: { value: 600 },
    },
  });
}
