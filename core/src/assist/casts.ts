import { parseSql } from '../sql/parser.js';
import { ident, literal } from '../sql/quote.js';

/** A column of a query, and the type that its values are to have. */
export interface Cast {
  readonly column: string;
  readonly type: string;
}

/** Whether a text is the name of a type, and nothing more than that. */
export function isTypeName(type: string): boolean {
  const { statements, error } = parseSql(`select cast(null as ${type}\n)`);
  const [only, ...more] = statements;
  if (error || !only || more.length || !('SelectStmt' in only.node)) return false;
  const { targetList = [], ...rest } = only.node.SelectStmt;
  const [target, ...others] = targetList;
  const isPlain = Object.keys(rest).every((k) => k === 'limitOption' || k === 'op');
  if (!isPlain || others.length || !target || !('ResTarget' in target)) return false;
  const { val } = target.ResTarget;
  return val !== undefined && 'TypeCast' in val && 'A_Const' in (val.TypeCast.arg ?? {});
}

/** How the values of a column fare in a cast. */
export interface CastOutcome extends Cast {
  /** Rows whose value fails, and how many different values they have. */
  readonly failing: number;
  readonly different: number;
  /** Some of these values, the most frequent first. */
  readonly examples: readonly string[];
}

/** Rows that are looked at, values that are shown, and letters of each. */
export const CAST_ROWS = 200_000;
const MOST_EXAMPLES = 5;
const LONGEST_EXAMPLE = 200;
/** Where the block leaves its answer, as JSON. */
export const CAST_ANSWER = 'ouvrage.casts';

/**
 * A block that tries each different value of some columns in a cast. PostgreSQL 15 has no cast that tells without
 * failing, so each is tried on its own; the block makes nothing, and leaves what it found in a setting of the
 * transaction. A type that does not exist ends it.
 * @param casts whose types are type names, and nothing else (`isTypeName`)
 */
export function castBlock(query: string, casts: readonly Cast[]): string {
  const tries = casts.map(({ column, type }) => {
    const values = `select q.${ident(column)}::text as value, count(*) as times from (select * from (\n${query}\n) as asked limit ${CAST_ROWS}) as q where q.${ident(column)} is not null group by 1 order by 2 desc, 1`;
    return `  execute ${literal(`select cast($1 as ${type}\n)`)} using null::text;
  failing := 0; different := 0; examples := '{}';
  for one in execute ${literal(values)} loop
    begin
      execute ${literal(`select cast($1 as ${type}\n)`)} using one.value;
    exception when others then
      failing := failing + one.times; different := different + 1;
      if different <= ${MOST_EXAMPLES} then examples := examples || left(one.value, ${LONGEST_EXAMPLE}); end if;
    end;
  end loop;
  answer := answer || jsonb_build_object('failing', failing, 'different', different, 'examples', to_jsonb(examples));`;
  });
  const body = `
declare
  one record; failing bigint; different bigint; examples text[]; answer jsonb := '[]';
begin
${tries.join('\n')}
  perform set_config(${literal(CAST_ANSWER)}, answer::text, true);
end `;
  return `do ${literal(body)}`;
}

/** What `castBlock` left. @param answer the setting's text */
export function readCasts(casts: readonly Cast[], answer: string): readonly CastOutcome[] {
  const found = JSON.parse(answer) as readonly Omit<CastOutcome, keyof Cast>[];
  return casts.map((cast, i) => ({ ...cast, ...found[i]! }));
}
