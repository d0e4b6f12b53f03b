// Which elements are selected, the last one foremost; what is drawn alone.
class Selection {
  ids = $state<number[]>([]);
  solo = $state<number[]>([]);

  has(id: number): boolean {
    return this.ids.includes(id);
  }

  only(id: number) {
    this.ids = [id];
  }

  set(ids: number[]) {
    this.ids = ids;
  }

  toggle(id: number) {
    this.ids = this.has(id) ? this.ids.filter((other) => other !== id) : [...this.ids, id];
  }

  /** Draws an element alone with those that are alone already, or no longer. */
  toggleSolo(id: number) {
    this.solo = this.solo.includes(id) ? this.solo.filter((other) => other !== id) : [...this.solo, id];
  }

  none() {
    this.ids = [];
  }

  /** An element with all that is selected beside it. */
  with(id: number): number[] {
    return this.has(id) ? [id, ...this.ids.filter((other) => other !== id)] : [id];
  }

  keepOnly(ids: number[]) {
    const there = new Set(ids);
    if (!this.ids.every((id) => there.has(id))) this.ids = this.ids.filter((id) => there.has(id));
    if (!this.solo.every((id) => there.has(id))) this.solo = this.solo.filter((id) => there.has(id));
  }
}

export const selection = new Selection();
