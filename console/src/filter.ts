/** What copies can be filtered by; for some the values that there are. */
const fields: Record<string, string[]> = {
  name: [],
  host: [],
  pool: [],
  form: ["registered", "stray", "hollow", "package"],
  state: ["running", "stopped", "paused", "suspended", "away", "unknown"],
  tracked: ["yes", "no"],
  owner: [],
  manager: [],
  mac: [],
  address: [],
  uuid: [],
};

/** What the text of a filter could become: its last term with a field, or with a value that there is. */
export function completions(text: string, hosts: string[]): string[] {
  const at = text.lastIndexOf(" ") + 1;
  const [before, term] = [text.slice(0, at), text.slice(at)];
  const [field = "", begun] = term.split("=", 2);
  if (begun === undefined) {
    return Object.keys(fields)
      .filter((f) => f.startsWith(term) && !before.includes(`${f}=`))
      .map((f) => `${before}${f}=`);
  }
  const values = field === "host" ? hosts : (fields[field] ?? []);
  return values.filter((v) => v.startsWith(begun) && v !== begun).map((v) => `${before}${field}=${v}`);
}
