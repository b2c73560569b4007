/** A number with a narrow space between its thousands. */
export const thousands = (n: number) => n.toLocaleString("en").replaceAll(",", "\u202f");

/** So many of something, in words: "1 change", "12 changes". */
export const many = (n: number, one: string) => `${thousands(n)} ${one}${n === 1 ? "" : "s"}`;
