import {
  CHECK_OPTIONS,
  choicesOf,
  COLUMN_OPTIONS,
  JOB_OPTIONS,
  SOURCE_COLUMN_OPTIONS,
  SOURCE_TABLE_OPTIONS,
  TABLE_OPTIONS,
  type OptionRule,
} from '../language/options.js';
import { LOAD_POLICIES, POLICIES } from '../language/policies.js';
import { COLUMN_ROLES, ROLES } from '../language/roles.js';
import type { Range } from '../sql/positions.js';
import { tokenize, type Token } from '../sql/tokens.js';

type Rules = Readonly<Record<string, OptionRule>>;

/** A list of options in which a place of a text is. */
interface OptionList {
  readonly rules: Rules;
  /** The option whose name or value is at the place, and its tokens. */
  readonly name?: Token;
  readonly value?: Token;
  /** Whether a value is asked for at the place, rather than a name. */
  readonly inValue: boolean;
}

/** A word that can be written at a place, with what it means. */
export interface OptionChoice {
  readonly label: string;
  readonly help: string;
}

/** What a word of a contract means. */
export interface Explanation extends Range {
  readonly title: string;
  readonly help: string;
}

const isWord = (token: Token | undefined, ...words: readonly string[]): boolean =>
  token?.kind === 'word' && words.includes(token.text.toLowerCase());

/** The rules of a list that opens at a token, by the words of its statement and how deep it is in brackets. */
function rulesOf(opener: Token | undefined, statement: readonly Token[], depth: number): Rules | undefined {
  const words = statement.slice(0, 4).map((t) => t.text.toLowerCase());
  if (words[0] !== 'create') return undefined;
  if (isWord(opener, 'with')) {
    if (depth > 0) return undefined;
    return words[1] === 'view' && words[2] === 'checks'
      ? CHECK_OPTIONS
      : words[1] === 'table'
        ? TABLE_OPTIONS
        : words[1] === 'publication'
          ? JOB_OPTIONS
          : undefined;
  }
  if (!isWord(opener, 'options')) return undefined;
  if (words[1] === 'foreign') return depth > 0 ? SOURCE_COLUMN_OPTIONS : SOURCE_TABLE_OPTIONS;
  return words[1] === 'table' && depth > 0 ? COLUMN_OPTIONS : undefined;
}

/** The list of options in which a place is; undefined elsewhere. */
function optionListAt(text: string, offset: number): OptionList | undefined {
  const tokens = tokenize(text).filter((t) => t.kind !== 'comment');
  let statement: Token[] = [];
  const open: { readonly at: number; readonly rules: Rules | undefined }[] = [];
  let end = 0;
  for (; end < tokens.length && tokens[end]!.start < offset; end++) {
    const token = tokens[end]!;
    if (token.text === ';' && token.kind === 'operator') [statement, open.length] = [[], 0];
    else statement.push(token);
    if (token.text === '(') open.push({ at: end, rules: rulesOf(tokens[end - 1], statement, open.length) });
    if (token.text === ')' && token.end <= offset) open.pop();
  }
  const list = open.at(-1);
  if (!list?.rules) return undefined;
  // The option around the place: what is between the commas or brackets on its sides.
  let from = list.at + 1;
  for (let i = from; i < end; i++) if (tokens[i]!.text === ',' && tokens[i]!.end <= offset) from = i + 1;
  const within: Token[] = [];
  for (let i = from; i < tokens.length && ![',', ')', ';'].includes(tokens[i]!.text); i++)
    if (tokens[i]!.text !== '=') within.push(tokens[i]!);
  const [name, value] = within;
  const inValue = name !== undefined && offset > name.end;
  return { rules: list.rules, inValue, ...(name ? { name } : {}), ...(value ? { value } : {}) };
}

const ruleOf = (rules: Rules, name: Token | undefined): OptionRule | undefined =>
  name && Object.hasOwn(rules, name.text.toLowerCase()) ? rules[name.text.toLowerCase()] : undefined;

/** What a value of an option means, where the language says it. */
function valueHelp(rule: OptionRule, value: string): string {
  const policy = rule === TABLE_OPTIONS.load ? LOAD_POLICIES.find((p) => p === value) : undefined;
  const role = rule === COLUMN_OPTIONS.role ? COLUMN_ROLES.find((r) => r === value) : undefined;
  return (policy && POLICIES[policy].help) ?? (role && ROLES[role].help) ?? '';
}

/** The options, or the values of one, that can be written at a place of a contract; undefined where none are asked for. */
export function optionChoices(text: string, offset: number): readonly OptionChoice[] | undefined {
  const list = optionListAt(text, offset);
  if (!list) return undefined;
  if (!list.inValue) return Object.entries(list.rules).map(([label, { help }]) => ({ label, help }));
  const rule = ruleOf(list.rules, list.name);
  return rule && (choicesOf(rule) ?? []).map((label) => ({ label, help: valueHelp(rule, label) }));
}

/** What the option or the value at a place means; undefined where there is neither. */
export function explainOption(text: string, offset: number): Explanation | undefined {
  const list = optionListAt(text, offset) ?? optionListAt(text, offset + 1);
  const rule = list && ruleOf(list.rules, list.name);
  if (!rule || !list.name) return undefined;
  const { name, value } = list;
  if (offset >= name.start && offset <= name.end)
    return { start: name.start, end: name.end, title: name.text, help: rule.help };
  if (!value || offset < value.start || offset > value.end) return undefined;
  const written = value.text.replace(/^'|'$/g, '');
  const help = valueHelp(rule, written);
  return { start: value.start, end: value.end, title: `${name.text} ${written}`, help: help || rule.help };
}
