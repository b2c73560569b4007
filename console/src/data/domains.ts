const address = /[^\s@<>()[\],;:"]+@([^\s@<>()[\],;:"]+)/gu;

/** Scripts that are written together in one language, as one. */
const families: Record<string, string> = { Hiragana: "Han", Katakana: "Han", Bopomofo: "Han", Hangul: "Han" };

const scripts = [
  "Latin",
  "Greek",
  "Cyrillic",
  "Armenian",
  "Hebrew",
  "Arabic",
  "Devanagari",
  "Thai",
  "Georgian",
  "Cherokee",
  "Han",
  "Hiragana",
  "Katakana",
  "Bopomofo",
  "Hangul",
].map((name) => [families[name] ?? name, new RegExp(`\\p{Script=${name}}`, "u")] as const);

/** A letter of no script that is listed counts as one of its own. */
const scriptOf = (letter: string) => scripts.find(([, of]) => of.test(letter))?.[0] ?? letter;

const mixed = (domain: string) => new Set([...domain].filter((c) => /\p{L}/u.test(c)).map(scriptOf)).size > 1;

/** The ASCII form of a domain, as a name server is asked for it; undefined where it has none. */
function ascii(domain: string): string | undefined {
  try {
    return new URL(`http://${domain}`).hostname;
  } catch {
    return undefined;
  }
}

/**
 * The ASCII forms (xn--…) of the domains in a text whose letters are of more than one script,
 * and so may look like another domain. Domains of one script are left as they are.
 */
export function disguisedDomains(text: string): string[] {
  if (/^[\x20-\x7e]*$/.test(text)) return [];
  return [...text.matchAll(address)].map((m) => m[1] ?? "").flatMap((d) => (mixed(d) ? [ascii(d) ?? "no valid domain"] : []));
}
