/** A note with `[layer.table]` turned into links where there is such a table; code is left alone. */
export function linked(text: string, addressOf: (table: string) => string | undefined): string {
  return text.replace(
    /(```[\s\S]*?```|`[^`\n]*`)|\[([a-z_][a-z0-9_]*\.[a-z_][a-z0-9_]*)\](?!\()/g,
    (whole, code: string | undefined, table: string) => {
      const address = code === undefined ? addressOf(table) : undefined;
      return address === undefined ? whole : `[${table}](${address})`;
    },
  );
}
