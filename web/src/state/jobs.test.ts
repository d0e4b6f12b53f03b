import { beforeEach, expect, test, vi } from "vitest";
import { api, type Card, type Told } from "../api/client";
import { jobs } from "./jobs.svelte";

const frame = (shot: number, frame: number) =>
  ({ what: "frame", shot, frame, last: 96, seconds_left: 3 }) as Told;
const film = (film: number, done: number) =>
  ({ what: "film", shot: 1, film, done, total: 8, seconds_left: 3, there: [], bytes: 0 }) as Told;

beforeEach(() => {
  vi.restoreAllMocks();
  jobs.list = [];
});

test("a bake is one job that goes on", () => {
  jobs.take(frame(1, 4));
  jobs.take(frame(1, 5));
  expect(jobs.list).toHaveLength(1);
  expect(jobs.list[0]).toMatchObject({ label: "Computing", done: 5, total: 96 });
});

test("bakes and films of several shots stand beside each other", () => {
  jobs.take(frame(1, 4));
  jobs.take(frame(2, 4));
  jobs.take(film(9, 2));
  expect(jobs.list.map((job) => job.label)).toEqual(["Computing", "Computing", "Rendering"]);
  jobs.take({ what: "bake_ended", shot: 1, message: null });
  expect(jobs.list.map((job) => [job.shot, job.film])).toEqual([
    [2, undefined],
    [1, 9],
  ]);
  jobs.take({ what: "films", shot: 1 });
  expect(jobs.list.map((job) => job.shot)).toEqual([2]);
});

test("after a break nothing is known to be at work", () => {
  jobs.take(frame(1, 4));
  jobs.take({ what: "resync" });
  expect(jobs.list).toEqual([]);
});

test("stopping asks the server for the right thing", async () => {
  const [stop, stopFilm] = [vi.spyOn(api, "stop"), vi.spyOn(api, "stopFilm")];
  stop.mockResolvedValue();
  stopFilm.mockResolvedValue();
  jobs.take(frame(3, 4));
  jobs.take(film(9, 2));
  await jobs.stop(jobs.list[0]);
  await jobs.stop(jobs.list[1]);
  expect([stop.mock.calls, stopFilm.mock.calls]).toEqual([[[3]], [[9]]]);
});

test("the name of another shot is asked for once", async () => {
  const list = vi.spyOn(api, "shots").mockResolvedValue([{ id: 2, name: "Jar drop" } as Card]);
  expect(jobs.nameOf(2)).toBe("");
  await vi.waitFor(() => expect(jobs.nameOf(2)).toBe("Jar drop"));
  jobs.nameOf(2);
  expect(list).toHaveBeenCalledOnce();
});

test("the making of finished frames is a job of its own that ends by itself", () => {
  jobs.take(frame(1, 4));
  jobs.take({ what: "finishing", shot: 1, done: 3, total: 48 });
  expect(jobs.list.map((job) => [job.label, job.done])).toEqual([
    ["Computing", 4],
    ["Finishing", 3],
  ]);
  jobs.take({ what: "bake_ended", shot: 1, message: null });
  expect(jobs.list.map((job) => job.label)).toEqual(["Finishing"]);
  jobs.take({ what: "finishing", shot: 1, done: 0, total: 0 });
  expect(jobs.list).toEqual([]);
});

test("a comparison of sizes is a job that can be stopped", async () => {
  const stop = vi.spyOn(api, "stopComparing").mockResolvedValue();
  jobs.take({ what: "enough", shot: 1, done: 3, total: 144 });
  jobs.take({ what: "bake_ended", shot: 1, message: null });
  expect(jobs.list.map((job) => [job.label, job.done])).toEqual([["Comparing sizes", 3]]);
  await jobs.stop(jobs.list[0]);
  expect(stop).toHaveBeenCalledWith(1);
  jobs.take({ what: "enough", shot: 1, done: 0, total: 0 });
  expect(jobs.list).toEqual([]);
});
