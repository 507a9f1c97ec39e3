import { useEffect, useRef } from "react";

/** Whether what is pressed goes into a field. */
export const typing = (e: KeyboardEvent) =>
  e.target instanceof HTMLInputElement ||
  e.target instanceof HTMLTextAreaElement ||
  e.target instanceof HTMLSelectElement;

/** Does something when a key is pressed, unless somebody types into a field. */
export function useKey(key: string, press: () => void) {
  const now = useRef(press);
  useEffect(() => {
    now.current = press;
  }, [press]);
  useEffect(() => {
    const pressed = (e: KeyboardEvent) => {
      if (e.key !== key || typing(e) || e.ctrlKey || e.metaKey) return;
      e.preventDefault();
      now.current();
    };
    window.addEventListener("keydown", pressed);
    return () => window.removeEventListener("keydown", pressed);
  }, [key]);
}
