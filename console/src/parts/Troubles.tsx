import { dismiss, useTroubles } from "../troubles";

/** Tells, on every page, what went wrong behind it. */
export function Troubles() {
  return useTroubles().map((text, n) => (
    <p key={`${n}${text}`} role="alert" className="mb-2 flex gap-4 border-l-4 border-wreck bg-sheet px-3 py-1.5">
      <span className="grow font-semibold text-wreck">{text}</span>
      <button className="text-sea hover:underline" onClick={() => dismiss(n)}>
        Noted
      </button>
    </p>
  ));
}
