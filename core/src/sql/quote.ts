/**
 * Quoting: the one place where names and values become SQL text. Everything that assembles SQL goes
 * through these functions.
 */

/** A name as a quoted identifier. */
export function ident(name: string): string {
  return `"${name.replaceAll('"', '""')}"`;
}

/** A name with its schema. */
export function qualified(place: { readonly schema: string; readonly name: string }): string {
  return `${ident(place.schema)}.${ident(place.name)}`;
}

/** A list of names, separated by commas. */
export function idents(names: readonly string[]): string {
  return names.map(ident).join(', ');
}

/** A text value as a string constant; safe whatever `standard_conforming_strings` says. */
export function literal(value: string): string {
  const quoted = `'${value.replaceAll("'", "''")}'`;
  return value.includes('\\') ? ` E${quoted.replaceAll('\\', '\\\\')}` : quoted;
}

/** A name cut to PostgreSQL's 63 bytes, told apart from other long names by `mark`, which is kept. */
export function boundedName(name: string, mark = ''): string {
  if ((name.length + mark.length) * 3 <= 63) return name + mark; // no character takes more than three bytes a unit
  return cutToBytes(name, 63 - utf8Length(mark)) + mark;
}

/**
 * The name that PostgreSQL makes for a constraint or index that has none: `table_columns_label`, the
 * longer of the two parts cut, byte by byte, until all fits into 63 (its makeObjectName).
 */
export function objectName(table: string, columns: string, label: string): string {
  const available = 63 - utf8Length(label) - (columns === '' ? 1 : 2);
  let [first, second] = [utf8Length(table), utf8Length(columns)];
  while (first + second > available) {
    if (first > second) first--;
    else second--;
  }
  return [cutToBytes(table, first), ...(columns === '' ? [] : [cutToBytes(columns, second)]), label].join('_');
}

function cutToBytes(text: string, most: number): string {
  let kept = text;
  while (utf8Length(kept) > most) kept = kept.slice(0, -1);
  return kept;
}

function utf8Length(text: string): number {
  let bytes = 0;
  for (const symbol of text) {
    const code = symbol.codePointAt(0)!;
    bytes += code < 0x80 ? 1 : code < 0x800 ? 2 : code < 0x10000 ? 3 : 4;
  }
  return bytes;
}
