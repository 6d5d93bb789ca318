import { nearOr } from '../language/messages.js';
import type { Finding } from '../model/diagnostic.js';
import { REVIEW_RULES, type ReviewRule } from '../model/project.js';
import { nearest } from '../sql/nearest.js';

/** What is said about one file, from its text alone. */

type NotAllowed = Finding<'statement-not-allowed'>;

const notAllowed = (message: string, hint: string): NotAllowed => ({ code: 'statement-not-allowed', message, hint });
const notOnlyReading = (message: string, hint: string): Finding<'not-only-reading'> => ({
  code: 'not-only-reading',
  message,
  hint,
});

export const syntaxError = (message: string): Finding<'syntax'> => ({ code: 'syntax', message });

/** @param allowed what the file may hold */
export const statementNotAllowed = (allowed: string): NotAllowed =>
  notAllowed('this statement is not allowed here', allowed);

export const secondContract = notAllowed('the definition has a second contract', 'one file makes one table');
export const secondQuery = notAllowed('the definition has a second query', 'one file makes one table');
export const queryOfReference = notAllowed(
  'a reference table has no query',
  'its rows are in the CSV file beside this contract',
);
export const aboutOtherTable = (other: string, table: string): NotAllowed =>
  notAllowed(`this statement refers to ${other}`, `only ${table} may be changed here`);

export const definitionWithoutQuery: Finding = {
  code: 'no-query',
  message: 'the definition has no query',
  hint: 'write a select that makes the table’s rows',
};
export const checkWithoutQuery: Finding = {
  code: 'no-query',
  message: 'the check has no query',
  hint: 'write select … that returns the rows that should not exist',
};

const job = (message: string, hint: string): Finding<'job'> => ({ code: 'job', message, hint });

export const jobWithoutTables = job(
  'the job has no tables',
  'write for table layer.table, or for tables in schema LAYER',
);
export const jobOfAllTables = job(
  'a job names its tables',
  'write for tables in schema LAYER for all tables of a layer',
);
export const jobWithoutOptions = job(
  'nothing starts the job',
  "write with (at = '30 4 * * *'), or after = another job",
);
export const jobOfPart = (what: 'rows' | 'columns'): Finding<'job'> =>
  job(
    `a job loads whole tables, not some ${what} of them`,
    'leave it out: which rows there are is the table’s own query',
  );
export const jobOfOnly = job('only has no meaning here', 'leave it out');
export const jobTableWithoutLayer = (name: string): Finding<'job'> =>
  job(`${name} has no layer`, `write layer.${name}`);
export const jobInCapitals = (written: string, expected: string): Finding<'job'> =>
  job(`the name of a job is in small letters: ${written}`, `rename the file to ${expected}.sql`);

/** @param what `table`, `check`, `job` or `function` */
export const otherName = (
  path: string,
  what: 'table' | 'check' | 'job' | 'function',
  { written, expected }: { readonly written: string; readonly expected: string },
): Finding<'name-mismatch'> => ({
  code: 'name-mismatch',
  message: `the file is ${path}, the ${what} ${written}`,
  hint: what === 'table' ? `write ${expected}, or rename the file` : `name it ${expected}`,
  expected,
});

export const optionWithoutContract = (option: string): Finding<'bad-option'> => ({
  code: 'bad-option',
  message: `option ${option} needs a contract`,
  hint: 'declare the columns: create table … (…) with (…); and the query after it',
  option,
});

export const columnTwice = (column: string): Finding<'duplicate-column'> => ({
  code: 'duplicate-column',
  message: `column ${column} is declared twice`,
  name: column,
});

export const sourceWithoutLayer = (name: string): Finding<'table-without-layer'> => ({
  code: 'table-without-layer',
  message: `${name} has no layer`,
  hint: `write landing.${name}`,
  name,
  candidates: [`landing.${name}`],
});

export const misplacedFile: Finding = {
  code: 'misplaced-file',
  message: 'a definition belongs in the folder of its layer',
  hint: 'move the file into a layer’s folder, for example staging/',
};

export const unknownRule = (name: string): Finding<'unknown-option'> => {
  const near = nearest(name, REVIEW_RULES);
  return {
    code: 'unknown-option',
    message: `there is no rule review.${name}`,
    hint: nearOr(
      near,
      `the rules are ${REVIEW_RULES.map((r) => `review.${r}`).join(' and ')}, each also with a layer behind it`,
    ),
    name,
    nearest: near,
  };
};
export const badRule = (name: ReviewRule['name'], value: string): Finding<'bad-option'> => ({
  code: 'bad-option',
  message: `review.${name} cannot be '${value}'`,
  hint: name === 'approvals' ? "write how many people must approve, '0' to '10'" : "write 'true' or 'false'",
  option: name,
});
export const ruleTwice = (name: string): Finding<'bad-option'> => ({
  code: 'bad-option',
  message: `${name} is set twice`,
  hint: 'keep one of them',
  option: name,
});

export const misplacedExample: Finding = {
  code: 'misplaced-file',
  message: 'this is not a file of a worked example',
  hint: 'examples/layer.table/example/ holds input.layer.table.csv, member.layer.table.csv, target.csv, params.csv, each.csv and result.csv',
};

export const TOO_LARGE = 'it is too large or nested too deeply';
export const unreadableFile = (why: string): Finding<'unreadable'> => ({
  code: 'unreadable',
  message: `this file could not be read: ${why}`,
  hint: 'move parts of it into separate definitions',
});
/** @param limit milliseconds */
export const readTooLong = (limit: number): Finding<'unreadable'> => ({
  code: 'unreadable',
  message: `this file could not be read within ${limit / 1000} seconds`,
  hint: 'split it into several files',
});

/** Reference files. */
export const badLine = (path: string, line: number, message: string): Finding<'bad-reference-file'> => ({
  code: 'bad-reference-file',
  message,
  hint: `line ${line} of ${path}`,
  line,
});
export const withoutHeader: Finding = {
  code: 'bad-reference-file',
  message: 'the file has no header row',
  hint: 'the first line names the columns',
};
export const badHeader = (column: string): Finding<'bad-reference-file'> => ({
  code: 'bad-reference-file',
  message: column === '' ? 'a column has no name' : `column ${column} appears twice`,
  line: 1,
});

/** What does more than read. */
export const effect = ({
  message,
  hint,
}: {
  readonly message: string;
  readonly hint: string;
}): Finding<'not-only-reading'> => notOnlyReading(message, hint);
export const procedure = notOnlyReading('a query cannot call a procedure', 'write create function');
/** @param declared its volatility, where it says one */
export const mayChangeData = (name: string, declared: string | undefined): Finding<'not-only-reading'> =>
  notOnlyReading(
    `${name} may change data because it is ${declared === undefined ? 'not declared immutable or stable' : 'declared volatile'}`,
    'declare it immutable if its result depends only on its arguments, otherwise stable',
  );
export const definersRights = notOnlyReading(
  'functions run with the rights of their caller',
  'remove security definer',
);
export const changesRole = (setting: string): Finding<'not-only-reading'> =>
  notOnlyReading('a function cannot change the role', `remove set ${setting}`);
export const functionLanguage = (language: string): Finding<'not-only-reading'> =>
  notOnlyReading(`functions cannot be written in ${language}`, 'write it in sql or plpgsql');
export const dynamicSql = notOnlyReading('execute runs SQL that cannot be checked', 'write the statement directly');
export const volatileCall = (name: string): Finding<'not-only-reading'> =>
  notOnlyReading(`${name}() returns a different value on each call`, 'call only immutable and stable functions');
export const onlySelects = notOnlyReading(
  'a function may contain only select statements',
  'remove the other statements',
);
