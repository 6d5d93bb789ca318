import { leadingWord, withLeadingWords, withoutSemicolon } from '../../sql/leading-words.js';
import { boundedName, ident, idents, literal, qualified } from '../../sql/quote.js';
import type { LoadPlan } from '../plan/context.js';
import type { LoadStep } from '../../compile/steps.js';

/**
 * Loads as text that PostgreSQL runs without Ouvrage: a script for psql, or procedures with one that
 * calls them in order. Guards and checks raise an exception, which rolls everything back.
 */
export interface ScriptTable {
  readonly plan: LoadPlan;
  /** Of a reference table: its columns and rows. */
  readonly rows?: { readonly header: readonly string[]; readonly values: readonly (readonly (string | null)[])[] };
}

/** One piece of a load. */
interface Piece {
  readonly sql: string;
  /** A query whose rows nobody needs. */
  readonly select?: boolean;
  /** Text of a block, not of a statement: `if … end if`. */
  readonly block?: boolean;
}

export interface Script {
  readonly title: string;
  /** What has to be there before, as statements that would make it: tables that are read and not made, and roles. */
  readonly needs: readonly string[];
  /** In dependency order. */
  readonly tables: readonly ScriptTable[];
  /** `create or replace function …`, each after those that it calls. */
  readonly functions: readonly string[];
  /** The schema of the functions. */
  readonly functionsSchema: string;
}

/** A script for `psql -v ON_ERROR_STOP=1`: one transaction. */
export function loadScript(script: Script): string {
  const parts = [
    `-- ${script.title.replaceAll('\n', ' ')}`,
    '-- Run with psql -v ON_ERROR_STOP=1. All of it is one transaction.',
    ...needed(script),
    ...beginning(script),
    ...oldViews(script.tables),
  ];
  for (const table of script.tables) {
    parts.push(
      `\n-- ${table.plan.table}`,
      ...pieces(table).map((p) => (p.block ? `do ${quotedBody(`begin\n${p.sql}\nend`)};` : `${p.sql.trim()};`)),
    );
  }
  return [...parts, '\ncommit;', ''].join('\n');
}

/** A procedure for each table in its layer's schema, `load_dim_berth`, and one beside the functions that calls them all. */
export function loadProcedures(script: Script): string {
  const named = script.tables.map((table) => ({
    table,
    name: qualified({ schema: table.plan.target.schema, name: boundedName(`load_${table.plan.target.name}`) }),
  }));
  const procedures = named.map(({ table, name }) => {
    const body = pieces(table).map(inBlock);
    return `create or replace procedure ${name}() language plpgsql as ${quotedBody(`begin\n${body.join('\n')}\nend`)};`;
  });
  const all = qualified({ schema: script.functionsSchema, name: 'load_all' });
  const steps = [
    'set local client_min_messages = warning;',
    ...oldViews(script.tables),
    ...named.map(({ name }) => `call ${name}();`),
  ];
  return [
    `-- ${script.title.replaceAll('\n', ' ')}`,
    `-- Run it once; then: call ${all}();`,
    ...needed(script),
    ...beginning(script),
    ...procedures,
    `create or replace procedure ${all}() language plpgsql as ${quotedBody(`begin\n${steps.join('\n')}\nend`)};`,
    'commit;',
    '',
  ].join('\n');
}

/** What has to be there, as comments. */
const needed = ({ needs }: Script): string[] =>
  needs.length
    ? [
        '-- It needs the following, and creates everything else:',
        ...needs.map((n) => `--   ${n.replaceAll('\n', ' ')}`),
      ]
    : [];

function beginning({ tables, functions, functionsSchema }: Script): string[] {
  const schemas = new Set([functionsSchema, ...tables.flatMap(({ plan }) => [plan.target.schema, plan.staged.schema])]);
  return [
    'begin;',
    'set local client_min_messages = warning;',
    ...[...schemas].map((s) => `create schema if not exists ${ident(s)};`),
    ...functions.map((f) => `${withoutSemicolon(f)};`),
  ];
}

/** Views are made again after the tables that they read. */
function oldViews(tables: readonly ScriptTable[]): string[] {
  const views = tables.filter((t) => t.plan.relation === 'view').map((t) => qualified(t.plan.target));
  return views.length ? [`drop view if exists ${views.reverse().join(', ')};`] : [];
}

/** Text between dollar quotes that it does not hold itself. */
function quotedBody(text: string): string {
  let tag = '$load$';
  for (let n = 1; text.includes(tag); n++) tag = `$load${n}$`;
  return `${tag}\n${text}\n${tag}`;
}

function pieces({ plan, rows }: ScriptTable): Piece[] {
  const found: Piece[] = [];
  const add = (statements: readonly { readonly sql: string }[]) =>
    found.push(...statements.map(({ sql }) => ({ sql, select: leadingWord(sql) === 'select' })));
  add(plan.session);
  if (plan.makes)
    found.push({
      block: true,
      sql: `if to_regclass(${literal(qualified(plan.target))}) is null then\n${plan.makes.map((m) => `${m.sql};`).join('\n')}\nend if;`,
    });
  add(plan.build);
  if (rows?.values.length)
    found.push({
      sql: `insert into ${qualified(plan.staged)} (${idents(rows.header)}) values\n${rows.values.map((r) => `(${r.map((v) => (v === null ? 'null' : literal(v))).join(', ')})`).join(',\n')}`,
    });
  // A script always changes tables in their places: the rows are the same.
  found.push(...(plan.steps ?? []).flatMap(plainSteps).map((step) => pieceOf(plan, step)));
  found.push(...checkPieces(plan));
  add(plan.finish);
  if (plan.swaps)
    found.push(
      { sql: `drop ${plan.relation} if exists ${qualified(plan.target)}` },
      { sql: `alter ${plan.relation} ${qualified(plan.staged)} set schema ${ident(plan.target.schema)}` },
    );
  return found;
}

type PlainStep = Exclude<LoadStep, { step: 'choose' | 'when' | 'explain' }>;

function pieceOf(plan: LoadPlan, step: PlainStep): Piece {
  if (step.step === 'guard')
    return {
      block: true,
      sql: `if exists (${step.sql}) then\n  raise exception '%', ${literal(`${plan.table}: ${step.message}`)};\nend if;`,
    };
  if (step.step !== 'either') return { sql: step.sql, select: leadingWord(step.sql) === 'select' };
  const branch = (steps: readonly LoadStep[]) =>
    steps
      .flatMap(plainSteps)
      .map((inner) => inBlock(pieceOf(plan, inner)))
      .join('\n');
  return { block: true, sql: `if (${step.sql}) then\n${branch(step.then)}\nelse\n${branch(step.otherwise)}\nend if;` };
}

/** A piece as a statement of a block. */
const inBlock = (p: Piece): string =>
  p.block ? p.sql : `${p.select ? withLeadingWords(p.sql, ['select', []], 'perform') : p.sql};`.trim();

/** Steps without choices: tables are changed in their places, and what is needed only sometimes is done always. */
function plainSteps(step: LoadStep): PlainStep[] {
  switch (step.step) {
    case 'choose':
      return step.inPlace.flatMap(plainSteps);
    case 'when':
      return step.steps.flatMap(plainSteps);
    case 'explain':
      return [];
    default:
      return step.step === 'guard' && step.asks ? step.asks.flatMap(plainSteps) : [step];
  }
}

/** The counts of all checks in one scan; the first that is broken raises. */
function checkPieces(plan: LoadPlan): Piece[] {
  const binding = plan.checks.flatMap((check, i) => {
    if (check.advisory) return [];
    const allowed =
      check.tolerate === undefined
        ? '0'
        : check.tolerate.kind === 'count'
          ? String(check.tolerate.count)
          : `${check.tolerate.share} * counted.total`;
    return [
      `if counted.c${i} > ${allowed} then\n  raise exception '%: % rows at fault', ${literal(`check ${check.id} is broken`)}, counted.c${i};\nend if;`,
    ];
  });
  if (plan.countSql === undefined || binding.length === 0) return [];
  return [
    {
      block: true,
      sql: `declare counted record;\nbegin\nfor counted in ${plan.countSql} loop\n${binding.join('\n')}\nend loop;\nend;`,
    },
  ];
}
