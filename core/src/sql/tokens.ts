/**
 * PostgreSQL's lexical structure, as far as positions need it: names, strings, numbers, operators,
 * comments. The grammar itself is the parser's; this scanner exists because the parser gives no
 * position for some names and drops comments.
 */
export type TokenKind = 'word' | 'quoted' | 'string' | 'number' | 'parameter' | 'operator' | 'comment';

export interface Token {
  readonly kind: TokenKind;
  /** Character offsets into the text, end exclusive. */
  readonly start: number;
  readonly end: number;
  readonly text: string;
}

const NUMBER = /(?:0[xX][0-9a-fA-F_]+|0[oO][0-7_]+|0[bB][01_]+|(?:\d[\d_]*)?\.?\d[\d_]*(?:[eE][+-]?\d+)?|\d[\d_]*\.)/y;
const DOLLAR = /\$(?:[A-Za-z_\u0080-\uffff][A-Za-z0-9_\u0080-\uffff]*)?\$/y;
const OPERATOR = /::|:=|=>|\.\.|[-+*/<>=~!@#%^&|`?]+|[()[\],;:.$\\]/y;

function matchAt(pattern: RegExp, text: string, at: number): string | undefined {
  pattern.lastIndex = at;
  return pattern.exec(text)?.[0];
}

/** The end of a quoted run that starts at `at`; a doubled quote stays inside. */
function endOfQuoted(text: string, at: number, quote: string, escapes: boolean): number {
  let i = at + 1;
  while (i < text.length) {
    if (escapes && text[i] === '\\') i += 2;
    else if (text[i] !== quote) i++;
    else if (text[i + 1] === quote) i += 2;
    else return i + 1;
  }
  return text.length;
}

function endOfBlockComment(text: string, at: number): number {
  let depth = 0;
  for (let i = at; i < text.length; i++) {
    const pair = text.slice(i, i + 2);
    if (pair !== '/*' && pair !== '*/') continue;
    depth += pair === '/*' ? 1 : -1;
    i++;
    if (depth === 0) return i + 1;
  }
  return text.length;
}

/** An operator run ends where a comment begins inside it, as PostgreSQL's scanner has it. */
function operatorAt(text: string, at: number): string {
  const run = matchAt(OPERATOR, text, at) ?? text[at]!;
  const cut = [run.indexOf('--', 1), run.indexOf('/*', 1)].filter((p) => p > 0);
  return cut.length ? run.slice(0, Math.min(...cut)) : run;
}

/** White space of PostgreSQL's scanner. */
const isSpace = (code: number) => code === 32 || (code >= 9 && code <= 13);
const isWordStart = (code: number) =>
  (code >= 97 && code <= 122) || (code >= 65 && code <= 90) || code === 95 || code >= 0x80;
const isDigit = (code: number) => code >= 48 && code <= 57;

/** The end of a plain word that starts at `at`: letters, digits, underscores, dollars. */
function endOfWord(text: string, at: number): number {
  let i = at + 1;
  for (let code = text.charCodeAt(i); isWordStart(code) || isDigit(code) || code === 36; code = text.charCodeAt(i)) i++;
  return i;
}

function tokenAt(text: string, at: number): { kind: TokenKind; end: number } {
  const code = text.charCodeAt(at);
  // Nearly all tokens are words of several letters or one of these marks.
  if (isWordStart(code)) {
    const end = endOfWord(text, at);
    if (end > at + 1) return { kind: 'word', end };
  } else if (code === 44 || code === 40 || code === 41 || code === 59) return { kind: 'operator', end: at + 1 };
  return rareTokenAt(text, at);
}

function rareTokenAt(text: string, at: number): { kind: TokenKind; end: number } {
  const c = text[at]!;
  if (text.startsWith('--', at)) {
    const end = text.indexOf('\n', at);
    return { kind: 'comment', end: end < 0 ? text.length : end };
  }
  if (text.startsWith('/*', at)) return { kind: 'comment', end: endOfBlockComment(text, at) };
  if (c === "'") return { kind: 'string', end: endOfQuoted(text, at, "'", false) };
  if (c === '"') return { kind: 'quoted', end: endOfQuoted(text, at, '"', false) };
  if (c === '$') {
    const tag = matchAt(DOLLAR, text, at);
    if (tag) {
      const close = text.indexOf(tag, at + tag.length);
      return { kind: 'string', end: close < 0 ? text.length : close + tag.length };
    }
    const digits = /^\$\d+/.exec(text.slice(at, at + 12))?.[0];
    if (digits) return { kind: 'parameter', end: at + digits.length };
  }
  if (isWordStart(c.charCodeAt(0))) {
    const end = endOfWord(text, at);
    if (text[end] === "'" && end === at + 1 && /[eEbBxXnN]/.test(c)) {
      return { kind: 'string', end: endOfQuoted(text, end, "'", c === 'e' || c === 'E') };
    }
    if (end === at + 1 && /[uU]/.test(c) && /^&["']/.test(text.slice(end, end + 2))) {
      const quote = text[end + 1]!;
      return { kind: quote === '"' ? 'quoted' : 'string', end: endOfQuoted(text, end + 1, quote, false) };
    }
    return { kind: 'word', end };
  }
  if (/\d/.test(c) || (c === '.' && /\d/.test(text[at + 1] ?? ''))) {
    const number = matchAt(NUMBER, text, at);
    if (number) return { kind: 'number', end: at + number.length };
  }
  return { kind: 'operator', end: at + operatorAt(text, at).length };
}

/** All tokens of `text` from `from` on, comments included, white space left out. Never throws: an
 * unterminated string or comment runs to the end of the text. */
export function tokenize(text: string, from = 0, to = text.length): Token[] {
  const tokens: Token[] = [];
  let at = from;
  while (at < to) {
    if (isSpace(text.charCodeAt(at))) {
      at++;
      continue;
    }
    const { kind, end } = tokenAt(text, at);
    tokens.push({ kind, start: at, end, text: text.slice(at, end) });
    at = end;
  }
  return tokens;
}

/** The next token at or after `at` that is no comment. */
export function nextToken(text: string, at: number): Token | undefined {
  let i = at;
  while (i < text.length) {
    if (isSpace(text.charCodeAt(i))) {
      i++;
      continue;
    }
    const { kind, end } = tokenAt(text, i);
    if (kind !== 'comment') return { kind, start: i, end, text: text.slice(i, end) };
    i = end;
  }
  return undefined;
}

/** The name that a word or quoted identifier stands for: folded to lower case, or unquoted. */
export function nameOf(token: Token): string {
  return token.kind === 'quoted' ? token.text.slice(1, -1).replaceAll('""', '"') : token.text.toLowerCase();
}

/** The text without comments and layout: equal for two texts that differ in nothing else. */
export function withoutLayout(text: string, from = 0, to = text.length): string {
  let out = '';
  for (const token of tokenize(text, from, to)) {
    if (token.kind === 'comment') continue;
    out += (token.kind === 'word' ? token.text.toLowerCase() : token.text) + ' ';
  }
  return out;
}

/** Whether two texts differ in layout alone: the same words and the same comments, in the same order. */
export function sameButLayout(a: string, b: string): boolean {
  const words = (text: string) =>
    [...tokenize(text)].map((t) =>
      t.kind === 'comment' ? t.text.replace(/\s+/g, ' ').trim() : t.kind === 'word' ? t.text.toLowerCase() : t.text,
    );
  const [left, right] = [words(a), words(b)];
  return left.length === right.length && left.every((word, i) => word === right[i]);
}

/** Where a name of several parts ends, `a.b.c`, that begins at a place. */
export function endOfName(text: string, start: number, parts: number): number {
  let end = nextToken(text, start)?.end ?? start;
  for (let i = 1; i < parts; i++) {
    const dot = nextToken(text, end);
    if (dot?.text !== '.') break;
    end = nextToken(text, dot.end)?.end ?? end;
  }
  return end;
}
