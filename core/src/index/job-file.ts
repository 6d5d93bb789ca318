import { readOptions } from './contract.js';
import { dottedRange } from './mentions.js';
import type { FileReader } from './file-reader.js';
import {
  jobInCapitals,
  jobOfAllTables,
  jobOfOnly,
  jobOfPart,
  jobTableWithoutLayer,
  jobWithoutOptions,
  jobWithoutTables,
  otherName,
} from './messages.js';
import type { Job, Writable } from '../model/project.js';
import type { Statement } from '../sql/parser.js';
import { checkOptions, JOB_OPTIONS } from '../language/options.js';
import { nextToken } from '../sql/tokens.js';
import type { CreatePublicationStmt, PublicationObjSpec } from 'libpg-query';

const ALLOWED = 'jobs/ holds one create publication NAME for table … with (…) a file, and a comment on it';
/** Values of parameters are set as in parameters.sql. */
const PARAMETER = /^param\.[a-z_][a-z0-9_]*$/;

/** `jobs/`: tables that are loaded together, in PostgreSQL's grammar for a named set of tables. */
export function jobFile(file: FileReader): void {
  let comment: string | undefined;
  for (const statement of file.parsed.statements) {
    const { node } = statement;
    if ('CommentStmt' in node && node.CommentStmt.objtype === 'OBJECT_PUBLICATION') comment = node.CommentStmt.comment;
    else if (!('CreatePublicationStmt' in node) || file.result.jobs.length > 0) file.notAllowed(statement, ALLOWED);
    else file.result.jobs.push(jobOf(file, statement, node.CreatePublicationStmt));
  }
  const [job] = file.result.jobs;
  if (job && comment !== undefined) file.result.jobs[0] = { ...job, comment };
  if (!job && file.result.diagnostics.length === 0) file.problem(file.whole(), jobWithoutTables);
}

function jobOf(file: FileReader, statement: Statement, written: CreatePublicationStmt): Job {
  const nameRange = file.rangeAfterWord(statement, ['publication'], 1);
  const job: Writable<Job> = {
    name: file.stem,
    path: file.path,
    nameRange,
    tables: [],
    layers: [],
    options: readOptions(file.parsed, written.options ?? []),
  };
  const small = file.stem.toLowerCase();
  if (file.stem !== small) file.problem(nameRange, jobInCapitals(file.stem, small));
  else if (written.pubname !== file.stem)
    file.problem(nameRange, otherName(file.path, 'job', { written: written.pubname ?? '', expected: file.stem }));
  if (written.for_all_tables) file.problem(nameRange, jobOfAllTables);
  else if (!written.pubobjects?.length) file.problem(nameRange, jobWithoutTables);
  const objects = (written.pubobjects ?? []).flatMap((o) => ('PublicationObjSpec' in o ? [o.PublicationObjSpec] : []));
  const found = objects.map((o) => objectOf(file, o));
  if (job.options.size === 0) file.problem(nameRange, jobWithoutOptions);
  const known = new Map([...job.options].filter(([name]) => !PARAMETER.test(name)));
  file.result.diagnostics.push(...checkOptions(file.path, known, JOB_OPTIONS, 'a job'));
  return {
    ...job,
    tables: found.flatMap((f) => (f && 'layer' in f ? [f] : [])),
    layers: found.flatMap((f) => (f && !('layer' in f) ? [f] : [])),
  };
}

/** One table, or one layer; undefined where it is neither. */
function objectOf(
  file: FileReader,
  { pubobjtype, pubtable, name, location }: PublicationObjSpec,
): Job['tables'][number] | Job['layers'][number] | undefined {
  if (pubobjtype !== 'PUBLICATIONOBJ_TABLE') {
    const token = nextToken(file.text, file.parsed.at(location));
    const range = token ? { start: token.start, end: token.end } : file.whole();
    if (pubobjtype === 'PUBLICATIONOBJ_TABLES_IN_SCHEMA' && name) return { name, ...range };
    file.problem(range, jobOfAllTables);
    return undefined;
  }
  const { schemaname, relname = '', inh, location: at } = pubtable?.relation ?? {};
  const range = dottedRange(file.text, file.parsed.at(at), schemaname ? 2 : 1);
  if (pubtable?.whereClause) file.problem(range, jobOfPart('rows'));
  if (pubtable?.columns?.length) file.problem(range, jobOfPart('columns'));
  if (!inh) file.problem(range, jobOfOnly);
  if (schemaname) return { layer: schemaname, name: relname, ...range };
  file.problem(range, jobTableWithoutLayer(relname));
  return undefined;
}
