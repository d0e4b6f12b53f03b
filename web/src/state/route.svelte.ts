// Which view is shown, kept in the address.
export type View = "desk" | "runs" | "dailies";

class Route {
  shot = $state<number | null>(null);
  view = $state<View>("desk");

  constructor() {
    this.#read();
    addEventListener("hashchange", () => this.#read());
  }

  #read() {
    const match = /^#\/shot\/(\d+)(?:\/(desk|runs|dailies))?$/.exec(location.hash);
    this.shot = match ? Number(match[1]) : null;
    this.view = (match?.[2] as View | undefined) ?? "desk";
  }

  home() {
    location.hash = "#/";
  }

  open(shot: number, view: View = "desk") {
    location.hash = `#/shot/${shot}/${view}`;
  }
}

export const route = new Route();
