import { describe, expect, it } from "vitest";
import { inOrder } from "./typing";

/** A call that ends when it is told to. */
function calls() {
  const open: { text: string; end: () => void; fail: () => void }[] = [];
  const send = (text: string) =>
    new Promise<void>((resolve, reject) => open.push({ text, end: resolve, fail: () => reject(new Error("away")) }));
  return { open, send };
}

describe("inOrder", () => {
  it("sends what is typed meanwhile with the next call, and leaves nothing behind", async () => {
    const { open, send } = calls();
    const type = inOrder(send);
    const first = type("a");
    void type("b");
    void type("c");
    expect(open.map((c) => c.text)).toEqual(["a"]);
    open[0]!.end();
    await Promise.resolve();
    await Promise.resolve();
    expect(open.map((c) => c.text)).toEqual(["a", "bc"]);
    open[1]!.end();
    await first;
    const later = type("d"); // in the very moment that the others have gone
    expect(open.map((c) => c.text)).toEqual(["a", "bc", "d"]);
    open[2]!.end();
    await later;
  });

  it("tells of a failure once, and begins anew", async () => {
    const { open, send } = calls();
    const type = inOrder(send);
    const first = type("a");
    void type("b");
    open[0]!.fail();
    await expect(first).rejects.toThrow("away");
    void type("c");
    expect(open.map((c) => c.text)).toEqual(["a", "c"]);
  });
});
