/**
 * The statements of a script for psql, in their order, as far as PostgreSQL's regression tests need it: its commands
 * are left out but for variables (`\set`, `\getenv`), data of `copy … from stdin`, and `\gset`-like ends.
 * @param text the script
 * @param variables what `\getenv` gives, by name; changed by `\set`
 * @yields {{ sql: string, data?: string }}
 */
export function* statementsOf(text, variables) {
  let sql = '';
  let at = 0;
  let depth = 0;
  let atomic = false;
  const take = (end) => {
    sql += text.slice(at, end);
    at = end;
  };
  const done = () => {
    const statement = sql;
    sql = '';
    depth = 0;
    atomic = false;
    return statement;
  };
  while (at < text.length) {
    const rest = text.slice(at, at + 200);
    const end = quotedEnd(text, at, rest);
    if (end !== undefined) {
      take(end);
      continue;
    }
    const c = text[at];
    if (c === '(' || c === '[') depth++;
    if (c === ')' || c === ']') depth = Math.max(0, depth - 1);
    if (/[a-z_]/i.test(c)) {
      const [word] = /^[a-z_0-9$]+/i.exec(rest);
      if (/^atomic$/i.test(word) && /create/i.test(sql)) atomic = true;
      if (atomic && /^end$/i.test(word)) atomic = false;
      take(at + word.length);
      continue;
    }
    if (c === ';' && depth === 0 && !atomic) {
      at++;
      const statement = done();
      const isCopy = /^\s*(--[^\n]*\n\s*)*copy\b[^;]*\bfrom\s+stdin\b/i.test(statement);
      if (!isCopy) {
        yield { sql: statement };
        continue;
      }
      const from = text.indexOf('\n', at) + 1;
      const to = text.indexOf('\n\\.', from - 1);
      // A copy that is there to fail has none.
      if (
        to < 0 ||
        /^(\s*$|--|(copy|set|reset|drop|select|begin|rollback)\b.*;)/i.test(text.slice(from, text.indexOf('\n', from)))
      ) {
        yield { sql: statement };
        continue;
      }
      yield { sql: statement, data: to < from ? '' : text.slice(from, to + 1) };
      at = text.indexOf('\n', to + 2) + 1 || text.length;
      continue;
    }
    if (c === '\\') {
      const newline = text.indexOf('\n', at);
      const line = text.slice(at, newline < 0 ? text.length : newline);
      at = newline < 0 ? text.length : newline;
      command(line, variables);
      if (/^\\(g|gset|gdesc|gexec|gx|crosstabview|bind)\b/.test(line) && sql.trim()) yield { sql: done() };
      else if (/^\\;/.test(line)) at -= line.length - 2;
      continue;
    }
    const variable = /^:(['"]?)([a-z_][a-z_0-9]*)\1/i.exec(rest);
    if (c === ':' && text[at - 1] !== ':' && variable && variables.has(variable[2])) {
      const value = variables.get(variable[2]);
      sql += variable[1] === "'" ? `'${value.replaceAll("'", "''")}'` : variable[1] ? `"${value}"` : value;
      at += variable[0].length;
      continue;
    }
    take(at + 1);
  }
  if (sql.trim()) yield { sql };
}

/** The end of a comment, a string or a quoted name that begins at a place. */
function quotedEnd(text, at, rest) {
  if (rest.startsWith('--')) return endOr(text, text.indexOf('\n', at));
  if (rest.startsWith('/*')) {
    let depth = 0;
    for (let i = at; i < text.length; i++) {
      if (text.startsWith('/*', i)) depth++;
      if (text.startsWith('*/', i) && --depth === 0) return i + 2;
    }
    return text.length;
  }
  const dollar = /^\$([a-z_][a-z_0-9]*)?\$/i.exec(rest);
  if (dollar && !/[a-z_0-9]/i.test(text[at - 1] ?? ''))
    return endOr(text, text.indexOf(dollar[0], at + dollar[0].length), dollar[0].length);
  if (rest[0] === '"') return endOr(text, text.indexOf('"', at + 1), 1);
  if (rest[0] !== "'") return undefined;
  const escapes = /(^|[^a-z_0-9])e$/i.test(text.slice(Math.max(0, at - 2), at));
  for (let i = at + 1; i < text.length; i++) {
    if (escapes && text[i] === '\\') i++;
    else if (text[i] === "'") {
      if (text[i + 1] !== "'") return i + 1;
      i++;
    }
  }
  return text.length;
}
const endOr = (text, end, more = 0) => (end < 0 ? text.length : end + more);

function command(line, variables) {
  const [, name, rest] = /^\\(\w+)\s*(.*)$/.exec(line) ?? [];
  const [variable, ...parts] = (rest ?? '').trim().split(/\s+/);
  if (name === 'set')
    variables.set(
      variable,
      parts.map((p) => p.replace(/^:(\w+)$/, (all, v) => variables.get(v) ?? all).replace(/^'(.*)'$/, '$1')).join(''),
    );
  if (name === 'getenv') variables.set(variable, variables.get(parts[0]) ?? '');
}
