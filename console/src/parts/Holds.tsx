import { useQuery } from "@tanstack/react-query";
import { copyQuery, type Copy, type Schemas } from "../api";
import { Field, Named } from "./Field";

/** What a package is to hold, as asked for. */
export type Holding = Pick<
  Schemas["ExportRequest"],
  | "for"
  | "macs"
  | "identity"
  | "media"
  | "leaveOut"
  | "drop"
  | "name"
  | "cpus"
  | "memoryBytes"
  | "product"
  | "digest"
  | "ovf"
  | "diskFormat"
  | "compact"
>;

type Props = { copy: Copy; value: Holding; onChange: (holding: Holding) => void };

/** Asks what a package is for; what is rarely asked for is folded away below. */
export function Holds({ copy, value, onChange }: Props) {
  const set = (part: Holding) => onChange({ ...value, ...part });
  const product = (part: Schemas["Product"]) => set({ product: { ...value.product, ...part } });
  const toggled = (list: string[] | undefined, name: string) =>
    list?.includes(name) ? list.filter((n) => n !== name) : [...(list ?? []), name];
  const { data: whole = copy } = useQuery(copyQuery(copy.id)); // those of a list bear no machine
  const m = whole.machine;
  const devices = [...(m?.nics ?? []), ...(m?.devices ?? [])].map((d) => d.name);
  return (
    <div className="grid gap-2">
      <div role="radiogroup" aria-label="What the package is for" className="flex flex-wrap gap-x-5 gap-y-1">
        <Purpose value="restore" asked={value.for ?? "restore"} set={(p) => set({ for: p })}>
          to restore or relocate it: it stays the machine that it is
        </Purpose>
        <Purpose value="hand-out" asked={value.for ?? "restore"} set={(p) => set({ for: p })}>
          to hand it out: without MACs, ids and names of this site
        </Purpose>
      </div>
      <details>
        <summary className="cursor-pointer text-soft">What else it holds, and what the receiver sees</summary>
        <div className="mt-2 grid grid-cols-2 gap-3 md:grid-cols-4">
          <Either name="MACs" value={value.macs} set={(v) => set({ macs: v })} words={keepDrop} />
          <Either name="Identity" value={value.identity} set={(v) => set({ identity: v })} words={keepDrop} />
          <Either name="Media in drives" value={value.media} set={(v) => set({ media: v })} words={media} />
          <Either name="Digest" value={value.digest} set={(v) => set({ digest: v })} words={digests} first="SHA-256" />
          <Either name="Standard" value={value.ovf} set={(v) => set({ ovf: v })} words={versions} first="as its own" />
          <Either
            name="Disks"
            value={value.diskFormat}
            set={(v) => set({ diskFormat: v })}
            words={diskFormats}
            first="VMDK, compressed"
          />
          <Field
            name="Name there"
            value={value.name ?? ""}
            set={(v) => set({ name: v || undefined })}
            hint={copy.name}
          />
          <Field
            late
            name="CPUs there"
            type="number"
            value={value.cpus ?? ""}
            set={(v) => set({ cpus: Number(v) || undefined })}
            hint={String(m?.cpus ?? "")}
          />
          <Field
            late
            name="Memory there, in MiB"
            type="number"
            value={value.memoryBytes ? value.memoryBytes / 2 ** 20 : ""}
            set={(v) => set({ memoryBytes: Number(v) * 2 ** 20 || undefined })}
            hint={m ? String(m.memoryBytes / 2 ** 20) : ""}
          />
          <Field late name="Product" value={value.product?.name ?? ""} set={(v) => product({ name: v || undefined })} />
          <Field
            late
            name="Vendor"
            value={value.product?.vendor ?? ""}
            set={(v) => product({ vendor: v || undefined })}
          />
          <Field
            name="Version"
            value={value.product?.version ?? ""}
            set={(v) => product({ version: v || undefined })}
          />
          <Left name="Leave out" of={(m?.disks ?? []).map((d) => d.id)} out={value.leaveOut}>
            {(id) => set({ leaveOut: toggled(value.leaveOut, id) })}
          </Left>
          <Left name="Without" of={devices} out={value.drop}>
            {(name) => set({ drop: toggled(value.drop, name) })}
          </Left>
          <label className="col-span-2 flex items-center gap-1.5">
            <input
              type="checkbox"
              checked={value.compact ?? false}
              onChange={(e) => set({ compact: e.target.checked || undefined })}
            />
            without what its file systems mark as free (ext2 to ext4, XFS, NTFS)
          </label>
          <div className="col-span-2">
            <Named name="Licence to accept">
              <textarea
                aria-label="Licence to accept"
                className="field h-14 w-full"
                defaultValue={value.product?.licence ?? ""}
                onBlur={(e) => product({ licence: e.target.value || undefined })}
              />
            </Named>
          </div>
        </div>
      </details>
    </div>
  );
}

const keepDrop = { keep: "kept", drop: "left out" };
const media = { named: "named, not taken along", without: "drives are empty" };
const versions = { "1": "OVF 1.x, for old readers", "2": "OVF 2.x" };
const diskFormats = {
  qcow2: "QCOW2",
  vhdx: "VHDX",
  vhd: "VHD",
  "vmdk:sparse": "VMDK, not compressed",
  raw: "raw, in full",
};
const digests = { sha1: "SHA-1, for old readers", sha512: "SHA-512" };

type PurposeName = NonNullable<Holding["for"]>;
type PurposeProps = { value: PurposeName; asked: PurposeName; set: (p: PurposeName) => void; children: string };

function Purpose({ value, asked, set, children }: PurposeProps) {
  return (
    <label className="flex items-center gap-1.5">
      <input type="radio" name="purpose" checked={asked === value} onChange={() => set(value)} /> {children}
    </label>
  );
}

type EitherProps<W extends string> = {
  name: string;
  value: W | undefined;
  set: (value: W | undefined) => void;
  words: Partial<Record<W, string>>;
  first?: string; // what it is unless chosen
};

function Either<W extends string>({ name, value, set, words, first = "as above" }: EitherProps<W>) {
  return (
    <Named name={name}>
      <select
        aria-label={name}
        className="field w-full"
        value={value ?? ""}
        onChange={(e) => set((e.target.value as W) || undefined)}
      >
        <option value="">{first}</option>
        {(Object.entries(words) as [W, string][]).map(([word, text]) => (
          <option key={word} value={word}>
            {text}
          </option>
        ))}
      </select>
    </Named>
  );
}

type LeftProps = { name: string; of: string[]; out: string[] | undefined; children: (name: string) => void };

/** What of a machine is left out, one box for each. */
function Left({ name, of, out, children }: LeftProps) {
  return (
    <fieldset className="grid content-start gap-0.5">
      <legend className="text-soft">{name}</legend>
      {of.map((one) => (
        <label key={one} className="flex items-center gap-1.5">
          <input type="checkbox" checked={out?.includes(one) ?? false} onChange={() => children(one)} /> {one}
        </label>
      ))}
    </fieldset>
  );
}
