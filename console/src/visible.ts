// Controls, and marks that turn the direction of writing: they show nothing, and
// change what is around them.
// eslint-disable-next-line no-control-regex -- they are what is looked for
const unseen = /[\u0000-\u0008\u000b\u000c\u000e-\u001f\u007f-\u009f\u061c\u200e\u200f\u2028-\u202e\u2066-\u2069]/g;

/** A text from outside, as it can be shown. */
export const visible = (text: string) =>
  text.replace(unseen, (c) => `\\u${c.charCodeAt(0).toString(16).padStart(4, "0")}`);

/** The same for all texts in an answer. */
export const allVisible = (_: string, value: unknown) => (typeof value === "string" ? visible(value) : value);
