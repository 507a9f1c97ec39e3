import type { ReactNode } from "react";

type Props = {
  name: string;
  hint?: string;
  type?: "text" | "password" | "number";
  value: string | number;
  set: (value: string) => void;
  look?: string; // of the box, such as its width
  most?: number; // of a number
  late?: boolean; // told once the box is left, since much is worked out anew
};

/** A box with its name above it: the one row of all forms. */
export function Field({ name, hint, type = "text", value, set, look = "w-full", most, late = false }: Props) {
  return (
    <Named name={name}>
      <input
        aria-label={name}
        className={`field ${look}`}
        type={type}
        min={type === "number" ? 0 : undefined}
        max={most}
        placeholder={hint}
        autoComplete="off"
        {...(late
          ? { defaultValue: value, onBlur: (e) => set(e.target.value) }
          : { value, onChange: (e) => set(e.target.value) })}
      />
    </Named>
  );
}

/** Whatever is chosen or typed, with its name above it. */
export function Named({ name, children }: { name: string; children: ReactNode }) {
  return (
    <label className="grid gap-0.5">
      <span className="text-soft">{name}</span>
      {children}
    </label>
  );
}
