import { beforeEach, expect, test, vi } from "vitest";
import { cancelJob, getTransfer, Problem, sendBytes } from "./api";
import { givePackage } from "./transfer";

vi.mock("./api", async (load) => ({
  ...(await load<typeof import("./api")>()),
  getTransfer: vi.fn(),
  sendBytes: vi.fn(),
  cancelJob: vi.fn(async () => ({})),
}));
vi.mock("./visible", () => ({ allVisible: (_: string, v: unknown) => v }));

const file = new File(["....0123456789"], "tide-gauge.ova");
const entries = [{ name: "disk1.vmdk", offset: 4, size: 10 }];
const needs = (offset: number, entry = "disk1.vmdk") => ({ state: "working", need: { disk: "disk1", entry, offset } });
const wanted = vi.mocked(getTransfer) as unknown as ReturnType<typeof vi.fn>;
const send = vi.mocked(sendBytes);
const sent = async () => Promise.all(send.mock.calls.map(async ([, offset, body]) => [offset, await body.text()]));

beforeEach(() => {
  vi.useFakeTimers();
  vi.clearAllMocks();
});

test("what the job needs is sent, from where it needs it on, until the job is over", async () => {
  wanted
    .mockResolvedValueOnce(needs(0))
    .mockResolvedValueOnce({ state: "working" })
    .mockResolvedValue({ state: "done" });
  await givePackage("j", file, entries);
  expect(await sent()).toEqual([[0, "0123456789"]]);
  expect(cancelJob).not.toHaveBeenCalled();
});

test("after a cut it goes on where the service says, and not at the beginning", async () => {
  wanted.mockResolvedValueOnce(needs(0)).mockResolvedValueOnce(needs(6)).mockResolvedValue({ state: "done" });
  send.mockRejectedValueOnce(new TypeError("network")).mockResolvedValue(undefined);
  const over = givePackage("j", file, entries);
  await vi.advanceTimersByTimeAsync(700);
  await over;
  expect(await sent()).toEqual([
    [0, "0123456789"],
    [6, "6789"],
  ]);
});

test("a refusal that does not pass ends the job, so that nothing half-done stays", async () => {
  wanted.mockResolvedValueOnce(needs(0));
  send.mockRejectedValueOnce(new Problem({ code: "manifest.mismatch", detail: "It was changed." }, ""));
  await expect(givePackage("j", file, entries)).rejects.toThrow("It was changed.");
  expect(cancelJob).toHaveBeenCalledWith("j");
});

test("a file that the package does not have ends the job too", async () => {
  wanted.mockResolvedValueOnce(needs(0, "disk9.vmdk"));
  await expect(givePackage("j", file, entries)).rejects.toThrow("has no disk9.vmdk");
  expect(cancelJob).toHaveBeenCalledWith("j");
});
