/** A cell as RFC 4180 has it. What a spreadsheet would take for a formula is text: names come from outside. */
function cell(text: string): string {
  const harmless = /^[=+\-@\t\r]/.test(text) ? `'${text}` : text;
  return /[",\r\n]/.test(harmless) ? `"${harmless.replaceAll('"', '""')}"` : harmless;
}

export const csv = (rows: string[][]) => rows.map((r) => `${r.map(cell).join(",")}\r\n`).join("");

/** Lets the browser save a text as a file. */
export function save(name: string, text: string, type: string) {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob([text], { type }));
  link.download = name;
  link.click();
  window.setTimeout(() => URL.revokeObjectURL(link.href), 60_000);
}
