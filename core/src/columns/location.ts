/** The first place of a tree that the parser knows, in bytes. */
export function firstLocation(node: unknown): number | undefined {
  if (typeof node !== 'object' || node === null) return undefined;
  const { location } = node as { location?: unknown };
  if (typeof location === 'number') return location;
  for (const value of Object.values(node)) {
    const inner = firstLocation(value);
    if (inner !== undefined) return inner;
  }
  return undefined;
}
