// Commands as they are typed in a terminal.

/** quoted writes a word for a shell, in quotes where it needs them. */
export function quoted(word: string): string {
  return /^[\w@%+=:,./-]+$/.test(word) ? word : `'${word.replaceAll("'", `'\\''`)}'`
}
