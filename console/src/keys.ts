/** Keys as a terminal sends them (ECMA-48, section 5.4), by the names that browsers give them. */
const named: Record<string, string> = {
  Enter: "\r",
  Backspace: "\x7f",
  Escape: "\x1b",
  Delete: "\x1b[3~",
  ArrowUp: "\x1b[A",
  ArrowDown: "\x1b[B",
  ArrowRight: "\x1b[C",
  ArrowLeft: "\x1b[D",
  Home: "\x1b[H",
  End: "\x1b[F",
};

type Pressed = { key: string; ctrlKey: boolean; altKey: boolean; metaKey: boolean };

/** What a key types on a serial port; "" for one that is the browser's own. Tab leads on, as everywhere. */
export function typed({ key, ctrlKey, altKey, metaKey }: Pressed): string {
  if (metaKey) return "";
  const prefix = altKey ? "\x1b" : "";
  if (key in named) return prefix + named[key];
  if ([...key].length !== 1) return "";
  if (!ctrlKey) return prefix + key;
  const code = key.toUpperCase().charCodeAt(0);
  return code >= 0x40 && code <= 0x5f ? prefix + String.fromCharCode(code - 0x40) : "";
}

/** The keysym of a character (X Window System Protocol, appendix A). */
export function keysym(character: string): number {
  const code = character.codePointAt(0) ?? 0;
  if (character === "\n") return 0xff0d;
  if (character === "\t") return 0xff09;
  return (code >= 0x20 && code <= 0x7e) || (code >= 0xa0 && code <= 0xff) ? code : 0x01000000 | code;
}
