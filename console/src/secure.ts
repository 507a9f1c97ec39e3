/**
 * A page that comes over plain HTTP from another computer lacks some of what
 * browsers offer (secure contexts): these work there too.
 */

/** A key that nobody else makes. */
export function newKey() {
  const bytes = crypto.getRandomValues(new Uint8Array(16));
  return Array.from(bytes, (b) => b.toString(16).padStart(2, "0")).join("");
}

/** Copies a text; false where the browser does not let us. */
export async function copyText(text: string) {
  try {
    await navigator.clipboard.writeText(text);
    return true;
  } catch {
    const box = document.createElement("textarea");
    box.value = text;
    box.style.position = "fixed";
    document.body.append(box);
    box.select();
    const copied = document.execCommand("copy");
    box.remove();
    return copied;
  }
}
