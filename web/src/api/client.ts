// Requests to the server. Errors carry its problem document.
import { decodeFrame, type FramePart, type ViewportFrame } from "../viewport/frames";
import type { components, paths } from "./schema.gen";

/** A path of the server's description with its parameters filled in. */
type Filled<Path> = Path extends `${infer Before}{${string}}${infer After}`
  ? `${Before}${string | number}${Filled<After>}`
  : Path;
/** An address that the server answers to, with or without a query. */
type Address = Filled<keyof paths> | `${Filled<keyof paths>}?${string}`;
type Method = "GET" | "POST" | "PATCH" | "DELETE";

export type Schemas = components["schemas"];
export type Card = Schemas["Card"];
export type ShotState = Schemas["ShotState"];
export type Shot = Schemas["Shot"];
export type Element = Schemas["Element"];
export type Solid = Schemas["Solid"];
export type Particles = Schemas["Particles"];
export type Freshness = Schemas["Freshness"];
export type Stretch = Schemas["Stretch"];
export type SystemState = Schemas["SystemState"];
export type CheckEntry = Schemas["CheckEntry"];
export type Run = Schemas["Run"];
export type Film = Schemas["Film"];
export type FilmSettings = Schemas["FilmSettings"];
export type Revision = Schemas["Revision"];
export type Physics = Schemas["SolidPhysics"];
export type MeasuredRun = Schemas["MeasuredRun"];
export type BodyTrack = Schemas["BodyTrack"];
export type Vector = [number, number, number];

/** The names that a choice of the shot's description goes by, as `"box"` for `{ box: … }`. */
export type NameOf<T> = T extends string ? T : T extends object ? keyof T & string : never;
/** The name that a choice goes by. */
export const kindOf = <T extends object | string>(value: T): NameOf<T> =>
  (typeof value === "string" ? value : Object.keys(value)[0]) as NameOf<T>;
/** What a choice holds under one of its names. */
export type ChoiceOf<T, Name extends string> = T extends Record<Name, infer Content> ? Content : never;

/** What a mesh file becomes. */
export type ModelElements = Omit<Schemas["ModelElements"], "assets" | "elements"> & {
  assets: Record<string, Schemas["Asset"]>;
  elements: (Omit<Schemas["ModelElement"], "kind"> & { kind: Element["kind"] })[];
};

export interface Operation {
  op: "replace" | "add" | "remove";
  path: string;
  value?: unknown;
}

export class Problem extends Error {
  constructor(
    readonly status: number,
    readonly kind: string,
    detail: string,
    readonly head?: number,
  ) {
    super(detail);
  }

  get changedElsewhere(): boolean {
    return this.kind === "/problems/changed-elsewhere";
  }
}

async function request(method: Method, path: Address, body?: unknown): Promise<Response> {
  const raw = body instanceof Blob || body instanceof ArrayBuffer;
  const init: RequestInit = { method };
  if (body !== undefined) {
    init.body = raw ? (body as BodyInit) : JSON.stringify(body);
    init.headers = { "content-type": raw ? "application/octet-stream" : "application/json" };
  }
  let response: Response;
  try {
    response = await fetch(path, init);
  } catch {
    throw new Problem(0, "offline", "The server does not answer. Start it again; nothing saved is lost.");
  }
  if (response.ok) return response;
  const text = await response.text();
  try {
    const problem: Schemas["Problem"] = JSON.parse(text);
    throw new Problem(response.status, problem.type, problem.detail, problem.head ?? undefined);
  } catch (error) {
    if (error instanceof Problem) throw error;
    throw new Problem(response.status, "", text || response.statusText);
  }
}

/** Largest file the server takes, MB. */
const MAX_FILE_MB = 256;

/** A file as the body of a request; one that is too large is not even sent. */
function body(file: File): File {
  if (file.size > MAX_FILE_MB * 2 ** 20)
    throw new Problem(413, "/problems/too-large", `${file.name} is larger than ${MAX_FILE_MB} MB.`);
  return file;
}

const json = async <T>(method: Method, path: Address, body?: unknown): Promise<T> =>
  (await request(method, path, body)).json();
const none = async (method: Method, path: Address, body?: unknown): Promise<void> => {
  await request(method, path, body);
};
const bytes = async (path: Address): Promise<ArrayBuffer> => (await request("GET", path)).arrayBuffer();

/** Where forces are felt, and what is tried in place of the shot. */
type Probe = Omit<Schemas["Probe"], "tried"> & {
  tried?: { element: number | null; path: string; value: unknown } | null;
};

export const api = {
  shots: () => json<Card[]>("GET", "/api/shots"),
  createShot: (shot: Schemas["NewShot"]) => json<ShotState>("POST", "/api/shots", shot),
  shot: (id: number) => json<ShotState>("GET", `/api/shots/${id}`),
  deleteShot: (id: number) => none("DELETE", `/api/shots/${id}`),
  patch: (id: number, base: number, label: string, patch: Operation[]) =>
    json<ShotState>("PATCH", `/api/shots/${id}`, { base, label, patch }),
  importShot: async (file: File) =>
    json<ShotState>("POST", `/api/import?name=${encodeURIComponent(file.name)}`, body(file)),
  undo: (id: number, base: number) => json<ShotState>("POST", `/api/shots/${id}/undo?base=${base}`),
  redo: (id: number, base: number) => json<ShotState>("POST", `/api/shots/${id}/redo?base=${base}`),
  deleteElements: (id: number, base: number, elements: number[]) =>
    json<ShotState>("POST", `/api/shots/${id}/delete`, { base, elements }),
  history: (id: number) => json<Revision[]>("GET", `/api/shots/${id}/history`),
  restoreRevision: (id: number, revision: number) =>
    json<ShotState>("POST", `/api/shots/${id}/history`, { revision }),
  nameVersion: (id: number, name: string) => none("POST", `/api/shots/${id}/versions`, { name }),
  staged: (id: number, frame: number) => bytes(`/api/shots/${id}/staged/${frame}`),
  at: (id: number, frame: number) => json<Schemas["Moment"]>("GET", `/api/shots/${id}/at/${frame}`),
  sample: (id: number, of: Schemas["Sampling"]) =>
    json<Schemas["Samples"]>("POST", `/api/shots/${id}/sample`, of),
  formula: (id: number, of: Schemas["Formula"]) =>
    json<Schemas["FormulaValue"]>("POST", `/api/shots/${id}/formula`, of),
  probe: async (id: number, of: Probe): Promise<ArrayBuffer> =>
    (await request("POST", `/api/shots/${id}/probe`, of)).arrayBuffer(),
  acting: (id: number, element: number, frame: number) =>
    json<Schemas["ActingForce"][]>("GET", `/api/shots/${id}/acting/${element}?frame=${frame}&copy=0`),
  sky: (id: number) => bytes(`/api/shots/${id}/sky`),
  strokes: (id: number, element: number, frame: number) =>
    json<number[][][]>("GET", `/api/shots/${id}/strokes/${element}?frame=${frame}`),
  mesh: (id: number, element: number, frame: number) =>
    bytes(`/api/shots/${id}/mesh/${element}?frame=${frame}`),
  /** The faces of a mesh; `frame` is one that has them. */
  topology: (id: number, hash: string, frame: number) =>
    bytes(`/api/shots/${id}/topologies/${hash}?frame=${frame}`),
  /** A quantity at each vertex of what deforms, 32-bit floats. */
  surface: (run: number, element: number, frame: number, quantity: string) =>
    bytes(`/api/runs/${run}/surface/${element}/${frame}?quantity=${quantity}`),
  /** A quantity of each particle: the ids as 32-bit numbers, then the values as 32-bit floats. */
  particleValues: (run: number, element: number, frame: number, quantity: string) =>
    bytes(`/api/runs/${run}/particles/${element}/${frame}?quantity=${quantity}`),
  /** The albedo at each vertex of what deforms, by the layers of its look: three 32-bit floats each, linear. */
  albedo: (run: number, element: number, frame: number) =>
    bytes(`/api/runs/${run}/albedo/${element}/${frame}`),
  /** The sides of the cells that carry a soft body: two points each, m. */
  interior: (run: number, element: number, frame: number) =>
    bytes(`/api/runs/${run}/interior/${element}/${frame}`),
  waves: (run: number, element: number) =>
    json<Schemas["WaveTrack"]>("GET", `/api/runs/${run}/waves/${element}`),
  meshFacts: (id: number, element: number) =>
    json<Schemas["MeshFacts"]>("GET", `/api/shots/${id}/mesh_facts/${element}`),
  liquidFacts: (id: number, element: number) =>
    json<Schemas["LiquidFacts"]>("GET", `/api/shots/${id}/liquid_facts/${element}`),
  /** What is known of the comparison of three sizes of a shot's liquids. */
  comparison: (id: number) => json<Schemas["ComparisonState"]>("GET", `/api/shots/${id}/enough`),
  compareSizes: (id: number) => none("POST", `/api/shots/${id}/enough`),
  stopComparing: (id: number) => none("DELETE", `/api/shots/${id}/enough`),
  uvs: (id: number, element: number) => json<Schemas["UvMeasures"]>("GET", `/api/shots/${id}/uvs/${element}`),
  /** A map on the mesh at rest; null: weights of 0. See docs/formats.md. */
  map: (id: number, element: number, frame: number, map: string | null) =>
    bytes(
      `/api/shots/${id}/maps/${element}/${frame}?${map === null ? "" : `map=${encodeURIComponent(map)}`}`,
    ),
  /** A solid as it is at a frame, as an OBJ file. */
  shapeAt: (id: number, element: number, frame: number) =>
    bytes(`/api/shots/${id}/meshes/obj?first=${frame}&last=${frame}&element=${element}`),
  computedShapeAt: (id: number, element: number, frame: number) =>
    bytes(`/api/shots/${id}/meshes/obj?first=${frame}&last=${frame}&element=${element}&computed=true`),
  outlineText: (text: string, line_m: number) =>
    json<Vector[][]>("POST", "/api/outlines/text", { text, line_m }),
  outlineDrawing: async (file: File) =>
    json<Vector[][]>("POST", `/api/outlines/drawing?name=${encodeURIComponent(file.name)}`, body(file)),
  collision: (id: number, element: number) => bytes(`/api/shots/${id}/collision/${element}`),
  physics: (id: number, element: number) => json<Physics>("GET", `/api/shots/${id}/physics/${element}`),
  materials: () => json<Schemas["Materials"]>("GET", "/api/materials"),
  keepMaterial: (shot: number, element: number, name: string) =>
    none("POST", "/api/materials", { shot, element, name }),
  deleteMaterial: (kind: keyof Schemas["Materials"], name: string) =>
    none("DELETE", `/api/materials/${kind}/${encodeURIComponent(name)}`),
  toward: (id: number, element: number, material: string, degree: number) =>
    json<Schemas["Cloth"] | Schemas["Soft"] | Schemas["Liquid"]>(
      "GET",
      `/api/shots/${id}/toward/${element}?material=${encodeURIComponent(material)}&degree=${degree}`,
    ),
  /** Places for copies of a solid within another. */
  pack: (id: number, of: Schemas["PackInto"]) =>
    json<{ placed: Schemas["PlacedCopy"][] }>("POST", `/api/shots/${id}/pack`, of),
  drop: (id: number, element: number) => json<ShotState>("POST", `/api/shots/${id}/drop/${element}`),
  upload: async (id: number, file: File) =>
    json<Schemas["Uploaded"] & { asset: Schemas["Asset"] }>(
      "POST",
      `/api/shots/${id}/assets?name=${encodeURIComponent(file.name)}`,
      body(file),
    ),
  modelElements: (id: number, model: { name: string; asset: Schemas["Asset"]; separate: boolean }) =>
    json<ModelElements>("POST", `/api/shots/${id}/assets/elements`, model),
  poster: (id: number, revision: number): Address => `/api/shots/${id}/poster.png?revision=${revision}`,
  runPoster: (run: number): Address => `/api/runs/${run}/poster.png`,
  differences: (run: number) => json<Schemas["RunDifference"][]>("GET", `/api/runs/${run}/differences`),
  gate: (id: number, elements: number[]) =>
    json<CheckEntry[]>("GET", `/api/shots/${id}/gate?elements=${elements.join(",")}`),
  forecast: (id: number, settings: FilmSettings) =>
    json<Schemas["FilmForecast"]>("POST", `/api/shots/${id}/films/forecast`, settings),
  check: (id: number) => json<CheckEntry[]>("GET", `/api/shots/${id}/check`),
  fix: (id: number, entry: CheckEntry) =>
    json<ShotState>("POST", `/api/shots/${id}/fix`, { mistake: entry.mistake, elements: entry.elements }),
  freshness: (id: number) => json<Freshness>("GET", `/api/shots/${id}/freshness`),
  /** Computes what is stale or missing, of all systems or of one. */
  play: (id: number, system: string | null = null) =>
    none("POST", `/api/shots/${id}/play${system ? `?system=${encodeURIComponent(system)}` : ""}`),
  /** Begins from a finished frame, or as all is placed. */
  beginFrom: (id: number, frame: number | null, velocities: boolean) =>
    json<ShotState>("POST", `/api/shots/${id}/initial-state`, { frame, velocities }),
  /** Changes the frame rate; keys and the run stay on their frames, or where they are in seconds. */
  setFrameRate: (id: number, fps: number, keep: Schemas["TimeBase"]) =>
    json<ShotState>("POST", `/api/shots/${id}/frame-rate`, { fps, keep }),
  stop: (id: number) => none("DELETE", `/api/shots/${id}/play`),
  clear: (id: number) => none("POST", `/api/shots/${id}/clear`),
  runs: (id: number) => json<Run[]>("GET", `/api/shots/${id}/runs`),
  keepRun: (id: number, name?: string) => none("POST", `/api/shots/${id}/runs`, { name: name ?? null }),
  renameRun: (run: number, name: string) => none("PATCH", `/api/runs/${run}`, { name }),
  dropRun: (run: number) => none("DELETE", `/api/runs/${run}`),
  restoreRun: (run: number) => json<ShotState>("POST", `/api/runs/${run}/restore`),
  /** A frame as it is shown: finished, where the shot or the kept run has such steps. */
  frame: (run: number, frame: number, finished = true, part: FramePart | null = null) =>
    bytes(
      `/api/runs/${run}/frames/${frame}?finished=${finished}${part ? `&without=${part.without.join()}&most=${part.most}` : ""}`,
    ),
  measured: (run: number) => json<MeasuredRun>("GET", `/api/runs/${run}/measured`),
  track: (run: number, element: number, copy: number) =>
    json<BodyTrack>("GET", `/api/runs/${run}/track?element=${element}&copy=${copy}`),
  loops: (id: number, step: number, least: number, most: number) =>
    json<Schemas["LoopSeam"]>("GET", `/api/shots/${id}/loops/${step}?least=${least}&most=${most}`),
  /** A film of drawings, each behind its length. */
  viewFilm: async (id: number, drawings: Blob): Promise<Blob> => {
    if (drawings.size > MAX_FILE_MB * 2 ** 20)
      throw new Problem(413, "/problems/too-large", "The drawings take too much; save fewer frames at once.");
    return (await request("POST", `/api/shots/${id}/view-film`, drawings)).blob();
  },
  rounds: (id: number) => json<Schemas["LoopRound"][]>("GET", `/api/shots/${id}/rounds`),
  films: (id: number) => json<Film[]>("GET", `/api/shots/${id}/films`),
  createFilm: (id: number, name: string, settings: FilmSettings) =>
    json<Film>("POST", `/api/shots/${id}/films`, { name, settings }),
  stopFilm: (film: number) => none("POST", `/api/films/${film}/stop`),
  resumeFilm: (film: number) => none("POST", `/api/films/${film}/resume`),
  deleteFilm: (film: number) => none("DELETE", `/api/films/${film}`),
  filmFrame: (film: number, frame: number): Address => `/api/films/${film}/frames/${frame}/picture.png`,
  filmLinear: (film: number, frame: number): Address => `/api/films/${film}/frames/${frame}/linear.exr`,
  filmFrames: (film: number): Address => `/api/films/${film}/frames.zip`,
  movie: (film: number): Address => `/api/films/${film}/film.mp4`,
};

/** What the server tells every open page; `resync` comes after a break of the connection. */
export type Told = Schemas["Event"] | { what: "resync" };

/** The server's messages; after a break it connects again and tells `resync`. */
export class Events {
  #socket: WebSocket | undefined;
  #watched: { watch: number | null } & Partial<FramePart> = { watch: null };
  /** Number of the last wish: frames of earlier ones are of another part. */
  #wish = 0;
  #ended = false;

  constructor(
    private tell: (told: Told) => void,
    /** A frame of the watched shot as it is computed, of the part wished for; it begins at byte 16. */
    private frame: (run: number, message: ArrayBuffer) => void,
  ) {
    this.#open(false);
  }

  /** Asks for a part of the frames of a shot as they are computed. */
  watch(shot: number | null, part: Partial<FramePart> = {}) {
    this.#watched = { watch: shot, ...part };
    this.#wish++;
    if (this.#socket?.readyState === WebSocket.OPEN) this.#say();
  }

  #say() {
    this.#socket?.send(JSON.stringify({ ...this.#watched, wish: this.#wish }));
  }

  end() {
    this.#ended = true;
    this.#socket?.close();
  }

  #received(data: ArrayBuffer) {
    const view = new DataView(data);
    if (view.getUint32(8, true) === this.#wish) this.frame(Number(view.getBigInt64(0, true)), data);
  }

  #open(again: boolean) {
    const scheme = location.protocol === "https:" ? "wss" : "ws";
    const socket = new WebSocket(`${scheme}://${location.host}/api/events`);
    this.#socket = socket;
    socket.binaryType = "arraybuffer";
    socket.onopen = () => {
      this.#say();
      if (again) this.tell({ what: "resync" });
    };
    socket.onmessage = ({ data }) => {
      if (typeof data === "string") this.tell(JSON.parse(data));
      else this.#received(data);
    };
    socket.onclose = () => {
      if (!this.#ended) setTimeout(() => this.#open(true), 1000);
    };
  }
}

/** What a performance came to. */
export interface Kept {
  revision: number;
  keys: number;
  samples: number;
  what: string;
}

interface Listener {
  ready(): void;
  answered(number: number, frame: ViewportFrame): void;
  kept(kept: Kept): void;
  /** It is over; why, unless that was wanted. */
  ended(why: string | null): void;
}

/** A shot played with a hand in it: every step is answered by a frame. */
export class Performance {
  #socket: WebSocket;
  #why: string | null = "the connection was lost; what was performed is saved";

  constructor(shot: number, from: number, listener: Listener) {
    const scheme = location.protocol === "https:" ? "wss" : "ws";
    const socket = new WebSocket(`${scheme}://${location.host}/api/shots/${shot}/perform?from=${from}`);
    this.#socket = socket;
    socket.binaryType = "arraybuffer";
    socket.onmessage = ({ data }) => {
      if (typeof data !== "string")
        return listener.answered(new DataView(data).getUint32(0, true), decodeFrame(data));
      const told = JSON.parse(data) as { ready?: number; kept?: Kept; ended?: string };
      if (told.ready !== undefined) listener.ready();
      if (told.kept) listener.kept(told.kept);
      if (told.ended !== undefined) this.#why = told.ended;
    };
    socket.onclose = () => listener.ended(this.#why);
  }

  step(frame: number, values: { element: number | null; path: string; value: unknown }[]) {
    this.#socket.send(JSON.stringify({ step: { frame, values } }));
  }

  keep(within: { position_m: number; orientation_rad: number; fraction: number }) {
    this.#socket.send(JSON.stringify({ keep: within }));
    this.#why = null;
  }

  close() {
    this.#socket.close();
  }
}
