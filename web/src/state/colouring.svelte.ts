// Which quantity colours what deforms and what flows in the Viewport, and its values by element.
import { api } from "../api/client";
import { quantities, type Coloured, type MeasuredParticles, type Quantity } from "./colouring";

class ColouringState {
  quantity = $state<Quantity | null>(null);
  /** Whether a checker is laid on the UVs of what is selected. */
  checker = $state(false);
  /** Whether the cells that carry soft bodies are drawn. */
  interior = $state(false);
  /** The top of the range of each quantity, in the unit shown. */
  most = $state<Record<Quantity, number>>(
    Object.fromEntries(Object.entries(quantities).map(([name, of]) => [name, of.most])) as Record<
      Quantity,
      number
    >,
  );

  /** The top of the range, in the unit of the values; null: nothing is coloured. */
  get top(): number | null {
    return this.quantity && this.most[this.quantity] / quantities[this.quantity].scale;
  }

  /** Whether the quantity is one of surfaces, or of liquids. */
  is(of: Coloured): boolean {
    return this.quantity !== null && (quantities[this.quantity].of as readonly Coloured[]).includes(of);
  }

  /** What is measured of particles at a frame of a run as it was computed. */
  async particles(run: number, frame: number, elements: number[]): Promise<Map<number, MeasuredParticles>> {
    const found = new Map<number, MeasuredParticles>();
    const { quantity, top } = this;
    if (!quantity || !this.is("liquid") || top === null) return found;
    const each = elements.map(async (element) => {
      const bytes = await api.particleValues(run, element, frame, quantity).catch(() => null);
      const count = (bytes?.byteLength ?? 0) / 8;
      if (bytes && count > 0)
        found.set(element, {
          ids: new Uint32Array(bytes, 0, count),
          values: new Float32Array(bytes, 4 * count, count),
          top,
        });
    });
    await Promise.all(each);
    return found;
  }

  /** Values of elements at a frame of a run; those that have none are left out. */
  async values(run: number, frame: number, elements: number[]): Promise<Map<number, Float32Array>> {
    const found = new Map<number, Float32Array>();
    const { quantity } = this;
    if (!quantity || !this.is("surface")) return found;
    const each = elements.map(async (element) => {
      const values = await api.surface(run, element, frame, quantity).catch(() => null);
      if (values) found.set(element, new Float32Array(values));
    });
    await Promise.all(each);
    return found;
  }

  /** The sides of the cells of soft bodies at a frame of a run, all as one list of points; null: they are not drawn. */
  async cells(run: number, frame: number, elements: number[]): Promise<Float32Array | null> {
    if (!this.interior) return null;
    const each = elements.map((element) => api.interior(run, element, frame).catch(() => new ArrayBuffer(0)));
    const lists = (await Promise.all(each)).map((bytes) => new Float32Array(bytes));
    const all = new Float32Array(lists.reduce((sum, list) => sum + list.length, 0));
    lists.reduce((at, list) => (all.set(list, at), at + list.length), 0);
    return all;
  }

  /** The colours of elements whose looks have layers, at a frame of a run: three numbers a vertex. */
  async looks(run: number, frame: number, elements: number[]): Promise<Map<number, Float32Array>> {
    const found = new Map<number, Float32Array>();
    const each = elements.map(async (element) => {
      const colours = await api.albedo(run, element, frame).catch(() => null);
      if (colours) found.set(element, new Float32Array(colours));
    });
    await Promise.all(each);
    return found;
  }
}

export const colouring = new ColouringState();
