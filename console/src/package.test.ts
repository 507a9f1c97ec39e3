import { expect, test } from "vitest";
import { readPackage } from "./package";

const block = 512;

/** A member of an archive (USTAR, POSIX.1-1988). */
function member(name: string, body: string, o: { type?: string; size?: number; prefix?: string } = {}): Uint8Array {
  const bytes = new TextEncoder().encode(body);
  const out = new Uint8Array(block + Math.ceil(bytes.length / block) * block);
  const put = (at: number, text: string) => out.set(new TextEncoder().encode(text), at);
  put(0, name);
  put(124, (o.size ?? bytes.length).toString(8).padStart(11, "0"));
  put(156, o.type ?? "0");
  put(257, "ustar");
  put(345, o.prefix ?? "");
  out.set(bytes, block);
  return out;
}

const archive = (...parts: Uint8Array[]) =>
  new File([...parts, new Uint8Array(2 * block)] as BlobPart[], "tide-gauge.ova");
const descriptor = member("tide-gauge.ovf", "<Envelope/>");

test("members are found, with the text of descriptor and manifest", async () => {
  const s = await readPackage(
    archive(descriptor, member("tide-gauge.mf", "SHA256 …"), member("disk1.vmdk", "x".repeat(700))),
  );
  expect(s).toMatchObject({ name: "tide-gauge.ova", kind: "ova", descriptorName: "tide-gauge.ovf" });
  expect(s.descriptor).toBe("<Envelope/>");
  expect(s.manifest).toBe("SHA256 …");
  expect(s.entries).toEqual([
    { name: "tide-gauge.ovf", size: 11, offset: block },
    { name: "tide-gauge.mf", size: 10, offset: 3 * block },
    { name: "disk1.vmdk", size: 700, offset: 5 * block },
  ]);
});

test("long names and sizes that octal digits can't hold are understood", async () => {
  const record = "13 size=1400\n";
  const s = await readPackage(
    archive(
      descriptor,
      member("disk1.vmdk", "y", { prefix: "far/away" }),
      member("pax", record, { type: "x" }),
      member("disk2.vmdk", "z".repeat(1400), { size: 0 }),
      member("disk3.vmdk", "w"),
    ),
  );
  expect(s.entries.map((e) => [e.name, e.size])).toEqual([
    ["tide-gauge.ovf", 11],
    ["far/away/disk1.vmdk", 1],
    ["disk2.vmdk", 1400],
    ["disk3.vmdk", 1],
  ]);
  const big = member("disk1.vmdk", "");
  big.set([0x80, 0, 0, 0, 0, 0, 0, 0, 0, 0, 2, 0], 124); // base 256
  await expect(readPackage(archive(descriptor, big))).resolves.toMatchObject({
    entries: [{ size: 11 }, { name: "disk1.vmdk", size: 512 }],
  });
});

test.each([
  ["no archive", new File(["<html>".padEnd(2 * block)], "a.ova"), "is no package: it is not an OVA archive"],
  ["nothing", new File([], "a.ova"), "there is no descriptor"],
  ["no descriptor", archive(member("disk1.vmdk", "x")), "there is no descriptor (.ovf) in it"],
  ["damage", archive(descriptor, new Uint8Array(block).fill(7)), `at byte ${2 * block} no member begins`],
  ["cut short", archive(descriptor, member("disk1.vmdk", "", { size: 99999 })), "disk1.vmdk should have 99999 bytes"],
])("%s is refused with where and why", async (_, file, says) => {
  await expect(readPackage(file)).rejects.toThrow(says);
});
