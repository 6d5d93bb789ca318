import type { CreateFunctionStmt } from 'libpg-query';
import { FUNCTIONS_SCHEMA, mentionsIn } from './mentions.js';
import { strings } from '../sql/nodes.js';
import { parseSql, type Statement } from '../sql/parser.js';
import type { MomentMention, ProjectFunction } from '../model/project.js';
import type { Range } from '../sql/positions.js';
import { nameOf, tokenize } from '../sql/tokens.js';
import { typeText } from '../sql/types.js';
import type { FileReader } from './file-reader.js';
import {
  changesRole,
  definersRights,
  dynamicSql,
  effect,
  functionLanguage,
  mayChangeData,
  onlySelects,
  otherName,
  procedure,
  volatileCall,
} from './messages.js';
import { isTimeWord, isVolatile, momentOfCall } from './moments.js';
import { effectOfCall } from './only-reading.js';

/** `functions/`: one function a file, which only reads. */
export function functionFile(file: FileReader): void {
  for (const statement of file.parsed.statements) {
    if (!('CreateFunctionStmt' in statement.node)) {
      if (!('CommentStmt' in statement.node)) file.notAllowed(statement, 'functions/ holds one create function a file');
      continue;
    }
    const create: CreateFunctionStmt = statement.node.CreateFunctionStmt;
    const names = strings(create.funcname);
    const nameRange = file.rangeAfterWord(statement, ['function', 'procedure'], names.length);
    const name = names.at(-1) ?? '';
    if (names.length !== 2 || names[0] !== FUNCTIONS_SCHEMA || name !== file.stem) {
      const expected = `functions.${file.stem}`;
      file.problem(nameRange, otherName(file.path, 'function', { written: names.join('.'), expected }));
    }
    const { tables, functions, moments, effects } = mentionsIn(file.parsed, create.sql_body ?? {});
    file.effects(effects);
    onlyReads(file, statement, create, nameRange);
    const returned = create.returnType;
    const columns = outputColumns(create);
    const returns = returned && columns.length === 0 ? { returns: typeText(returned) } : {};
    file.result.functions.push({
      name,
      path: file.path,
      range: { start: statement.start, end: statement.end },
      nameRange,
      tables,
      functions,
      moments: [...moments, ...momentsInString(file.text, statement)],
      ...returns,
      returnsSet: returned?.setof === true,
      columns,
    });
  }
}

/** The columns that a function declares to return: those of its table, or its output parameters. */
const outputColumns = (create: CreateFunctionStmt): ProjectFunction['columns'] =>
  (create.parameters ?? []).flatMap((node) => {
    if (!('FunctionParameter' in node)) return [];
    const { mode, name, argType } = node.FunctionParameter;
    const isOutput = mode === 'FUNC_PARAM_TABLE' || mode === 'FUNC_PARAM_OUT' || mode === 'FUNC_PARAM_INOUT';
    return isOutput && argType ? [{ name: name ?? '', type: typeText(argType) }] : [];
  });

/** Reports what lets a function do more than read. That it runs no statement which writes is PostgreSQL's own rule for stable functions. */
function onlyReads(file: FileReader, statement: Statement, create: CreateFunctionStmt, nameRange: Range): void {
  const options = new Map(
    (create.options ?? []).flatMap((o) => ('DefElem' in o ? [[o.DefElem.defname ?? '', o.DefElem] as const] : [])),
  );
  const placeOf = (location: number | undefined): Range => {
    const start = file.parsed.at(location);
    return { start, end: tokenize(file.text, start, statement.end)[0]?.end ?? start };
  };
  if (create.is_procedure) return file.problem(nameRange, procedure);
  const textOf = (name: string): string | undefined => {
    const arg = options.get(name)?.arg;
    return arg && 'String' in arg ? arg.String.sval : undefined;
  };
  const volatility = textOf('volatility');
  if (volatility !== 'immutable' && volatility !== 'stable')
    file.problem(
      options.has('volatility') ? placeOf(options.get('volatility')!.location) : nameRange,
      mayChangeData(file.stem, volatility),
    );
  const security = options.get('security');
  if (security?.arg && 'Boolean' in security.arg && security.arg.Boolean.boolval)
    file.problem(placeOf(security.location), definersRights);
  const setting = options.get('set')?.arg;
  if (
    setting &&
    'VariableSetStmt' in setting &&
    ['role', 'session_authorization'].includes(setting.VariableSetStmt.name ?? '')
  )
    file.problem(placeOf(options.get('set')!.location), changesRole(setting.VariableSetStmt.name!));
  const language = textOf('language')?.toLowerCase() ?? 'sql';
  if (language !== 'sql' && language !== 'plpgsql')
    file.problem(placeOf(options.get('language')?.location), functionLanguage(language));
  reportCalls(file, statement, language);
  const as = options.get('as')?.arg;
  const body = as && 'List' in as ? strings(as.List.items)[0] : undefined;
  if (body !== undefined && language === 'sql') statementsOnlyRead(file, body, placeOf(options.get('as')!.location));
}

/** Calls of time in a body that is a string. Between quotes nothing can be put in their place. */
function momentsInString(text: string, statement: Statement): MomentMention[] {
  const bodies = tokenize(text, statement.start, statement.end).filter((t) => t.kind === 'string');
  return bodies.flatMap((body) => {
    const tokens = tokensInside(text, body);
    return tokens.flatMap((token, i): MomentMention[] => {
      const name = token.text.toLowerCase();
      const isCall = tokens[i + 1]?.text === '(';
      const moment = isCall ? momentOfCall(name) : undefined;
      if (token.kind !== 'word' || (!moment && !isTimeWord(name))) return [];
      const end = isCall ? tokens.slice(i).find((t) => t.text === ')')?.end : token.end;
      return [
        { start: token.start, end: end ?? token.end, name, kind: body.text.startsWith('$') ? 'time' : 'volatile' },
      ];
    });
  });
}

/** Calls inside a body, by its words: also where the body is a string. */
function reportCalls(file: FileReader, statement: Statement, language: string): void {
  const outer = tokenize(file.text, statement.start, statement.end);
  const inner = outer.filter((t) => t.kind === 'string').flatMap((t) => tokensInside(file.text, t));
  for (const tokens of [outer, inner]) {
    for (const [i, token] of tokens.entries()) {
      if (token.kind !== 'word' && token.kind !== 'quoted') continue;
      const name = nameOf(token);
      if (tokens === inner && language === 'plpgsql' && token.kind === 'word' && name === 'execute')
        file.problem(token, dynamicSql);
      if (tokens[i + 1]?.text !== '(') continue;
      // Calls outside of strings are read from the tree.
      const found = tokens === inner ? effectOfCall(name, 0) : undefined;
      if (found) file.problem(token, effect(found));
      else if (isVolatile(name)) file.problem(token, volatileCall(name));
    }
  }
}

/** The tokens of a string's content, where its content is in the text as it is: in dollars, or between quotes. */
function tokensInside(
  text: string,
  { start, end, text: written }: { readonly start: number; readonly end: number; readonly text: string },
) {
  const tag = /^\$[^$]*\$/.exec(written)?.[0].length ?? 1;
  return tokenize(text, start + tag, end - tag).filter((t) => t.kind !== 'comment');
}

/** A body in a string may hold select and nothing else. */
function statementsOnlyRead(file: FileReader, body: string, range: Range): void {
  const parsed = parseSql(body);
  for (const { node } of parsed.statements) {
    if (!('SelectStmt' in node)) file.problem(range, onlySelects);
    else
      for (const found of mentionsIn(parsed, node).effects.filter(
        (e) => e.kind === 'statement' && !e.message.startsWith('$'),
      ))
        file.problem(range, effect(found));
  }
}
