import { useState } from "react";
import type { Plan } from "../api";
import { Field } from "./Field";

/** What a package wants told to its guest, as a plan's findings have it. */
type Property = { name: string; label: string; type: string; secret: boolean; value?: string };

/** The properties that a plan's package asks for, each once. */
export function propertiesOf(plan: Plan | undefined): Property[] {
  const all = new Map<string, Property>();
  for (const f of plan?.findings ?? []) {
    if (f.code === "environment.told" || f.code === "environment.untold") {
      for (const p of (f.detail?.properties ?? []) as Property[]) all.set(p.name, p);
    }
  }
  return [...all.values()];
}

type Props = { plan: Plan | undefined; onChange: (values: Record<string, string>) => void };

/** Asks for the values of a package's properties; nothing where it has none. */
export function Asked({ plan, onChange }: Props) {
  const [said, setSaid] = useState<Record<string, string>>({});
  const [properties, setProperties] = useState<Property[]>([]);
  const found = propertiesOf(plan);
  if (found.length > 0 && JSON.stringify(found) !== JSON.stringify(properties)) setProperties(found); // else they stay
  if (properties.length === 0) return null;
  const set = (name: string, value: string) => {
    const next = { ...said, [name]: value };
    if (!value) delete next[name];
    setSaid(next);
    onChange(next);
  };
  return (
    <details className="w-full">
      <summary className="cursor-pointer text-soft">
        What the package wants told to its guest{Object.keys(said).length > 0 && " ✓"}
      </summary>
      <div className="mt-1 grid grid-cols-2 gap-3 md:grid-cols-4">
        {properties.map((p) => (
          <Field
            key={p.name}
            late
            name={p.label || p.name}
            type={p.secret ? "password" : "text"}
            value={said[p.name] ?? ""}
            set={(v) => set(p.name, v)}
            hint={p.value ?? ""}
          />
        ))}
      </div>
    </details>
  );
}
