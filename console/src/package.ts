import type { Schemas } from "./api";

type Skeleton = Schemas["Skeleton"];

const block = 512;
const mostText = 8 << 20;

/** A number of a tar header: octal text, or base 256 when the first bit is set. */
function number(bytes: Uint8Array): number {
  if ((bytes[0]! & 0x80) !== 0) {
    return bytes.slice(1).reduce((sum, b) => sum * 256 + b, bytes[0]! & 0x7f);
  }
  return parseInt(new TextDecoder().decode(bytes).replace(/[\0 ]/g, "") || "0", 8);
}

const text = (bytes: Uint8Array) => new TextDecoder().decode(bytes).split("\0")[0]!;

/** Size that a PAX header (POSIX.1-2001) gives the member after it. */
function paxSize(records: string): number | undefined {
  const m = /\d+ size=(\d+)\n/.exec(records);
  return m ? Number(m[1]) : undefined;
}

async function bytesAt(file: Blob, offset: number, length: number): Promise<Uint8Array> {
  return new Uint8Array(await file.slice(offset, offset + length).arrayBuffer());
}

/**
 * Reads the skeleton of an OVA (USTAR, POSIX.1-1988): where its members are,
 * and the text of descriptor and manifest. Disks are not read; the service
 * judges what comes of it.
 */
export async function readPackage(file: File): Promise<Skeleton> {
  const skeleton: Skeleton = {
    name: file.name,
    kind: "ova",
    descriptorName: "",
    descriptor: "",
    manifestName: "",
    manifest: "",
    entries: [],
  };
  let pax: number | undefined;
  for (let at = 0; at + block <= file.size;) {
    const head = await bytesAt(file, at, block);
    if (head.every((b) => b === 0)) break;
    if (text(head.slice(257, 262)) !== "ustar" && !(at === 0 && text(head.slice(257, 262)) === "")) {
      throw new Error(
        at === 0
          ? `${file.name} is no package: it is not an OVA archive.`
          : `${file.name} is damaged: at byte ${at} no member begins.`,
      );
    }
    const type = String.fromCharCode(head[156]!);
    let length = number(head.slice(124, 136));
    if (pax !== undefined && type !== "x") {
      length = pax;
      pax = undefined;
    }
    const prefix = text(head.slice(345, 500));
    const name = (prefix ? `${prefix}/` : "") + text(head.slice(0, 100));
    const offset = at + block;
    if (offset + length > file.size) {
      throw new Error(
        `${file.name} is cut short: ${name} should have ${length} bytes, ` +
          `the archive ends after ${file.size - offset} of them. Fetch it again.`,
      );
    }
    if (type === "x") {
      pax = paxSize(new TextDecoder().decode(await bytesAt(file, offset, Math.min(length, mostText))));
    } else if (type === "0" || type === "\0") {
      skeleton.entries.push({ name, size: length, offset });
      const part = async () => new TextDecoder().decode(await bytesAt(file, offset, Math.min(length, mostText)));
      if (/\.ovf$/i.test(name) && !skeleton.descriptorName) {
        skeleton.descriptorName = name;
        skeleton.descriptor = await part();
      } else if (/\.mf$/i.test(name)) {
        skeleton.manifestName = name;
        skeleton.manifest = await part();
      }
    }
    at = offset + Math.ceil(length / block) * block;
  }
  if (!skeleton.descriptorName) throw new Error(`${file.name} is no package: there is no descriptor (.ovf) in it.`);
  return skeleton;
}
