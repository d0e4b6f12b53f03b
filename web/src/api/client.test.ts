import { afterEach, beforeEach, describe, expect, test, vi } from "vitest";
import { api, Events, Problem, type Told } from "./client";

afterEach(() => vi.unstubAllGlobals());

function answer(status: number, body: string) {
  vi.stubGlobal("fetch", vi.fn().mockResolvedValue(new Response(body, { status })));
}

describe("an error", () => {
  test("carries the words of the problem document", async () => {
    answer(409, JSON.stringify({ type: "/problems/changed-elsewhere", detail: "changed", head: 12 }));
    const problem = await api.shot(1).catch((error: Problem) => error);
    expect(problem).toBeInstanceOf(Problem);
    expect(problem).toMatchObject({ status: 409, message: "changed", head: 12, changedElsewhere: true });
  });
  test("that is no problem document carries its text", async () => {
    answer(502, "the proxy is tired");
    await expect(api.shot(1)).rejects.toThrow("the proxy is tired");
  });
  test("of a server that does not answer says that nothing is lost", async () => {
    vi.stubGlobal("fetch", vi.fn().mockRejectedValue(new TypeError("refused")));
    await expect(api.shot(1)).rejects.toThrow("nothing saved is lost");
  });
});

test("names in addresses are escaped", async () => {
  answer(200, "{}");
  await api.upload(3, new File(["x"], "a b&c.obj"));
  expect(vi.mocked(fetch).mock.calls[0][0]).toBe("/api/shots/3/assets?name=a%20b%26c.obj");
});

describe("events", () => {
  class Socket {
    static OPEN = 1;
    static all: Socket[] = [];
    readyState = 0;
    sent: string[] = [];
    onopen = () => {};
    onclose = () => {};
    onmessage: (message: { data: unknown }) => void = () => {};
    constructor(readonly url: string) {
      Socket.all.push(this);
    }
    send(text: string) {
      this.sent.push(text);
    }
    close() {}
    open() {
      this.readyState = 1;
      this.onopen();
    }
  }
  let heard: Told[];
  let frames: [number, number][];
  let events: Events;

  beforeEach(() => {
    vi.useFakeTimers();
    vi.stubGlobal("WebSocket", Socket);
    Socket.all = [];
    heard = [];
    frames = [];
    events = new Events(
      (told) => heard.push(told),
      (run, message) => frames.push([run, message.byteLength]),
    );
    return () => vi.useRealTimers();
  });

  test("a wish made before the connection is open is said once it is", () => {
    events.watch(3);
    expect(Socket.all[0].sent).toEqual([]);
    Socket.all[0].open();
    expect(Socket.all[0].sent).toEqual(['{"watch":3,"wish":1}']);
  });
  test("words and frames go to those who want them", () => {
    Socket.all[0].open();
    Socket.all[0].onmessage({ data: '{"what":"runs","shot":1}' });
    const view = new DataView(new ArrayBuffer(24));
    view.setBigInt64(0, 41n, true);
    events.watch(3, { without: [2], most: 9 });
    // One of an earlier wish may lack what is shown by now.
    Socket.all[0].onmessage({ data: view.buffer });
    view.setUint32(8, 1, true);
    Socket.all[0].onmessage({ data: view.buffer });
    expect(heard).toEqual([{ what: "runs", shot: 1 }]);
    expect(frames).toEqual([[41, 24]]);
  });
  test("after a break it connects again, wishes again and says to ask again", () => {
    events.watch(3);
    Socket.all[0].open();
    Socket.all[0].onclose();
    vi.advanceTimersByTime(1500);
    Socket.all[1].open();
    expect(Socket.all[1].sent).toEqual(['{"watch":3,"wish":1}']);
    expect(heard).toEqual([{ what: "resync" }]);
  });
  test("once ended it stays ended", () => {
    events.end();
    Socket.all[0].onclose();
    vi.advanceTimersByTime(5000);
    expect(Socket.all).toHaveLength(1);
  });
});
