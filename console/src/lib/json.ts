/** problemOf says why a text is not JSON; nothing where it is. */
export function problemOf(text: string): string | undefined {
  try {
    JSON.parse(text)
  } catch (e) {
    return (e as Error).message
  }
}
