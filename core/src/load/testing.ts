import { projectOf } from '../testing.js';
import type { Definition } from '../model/project.js';
import { compileText, type Names } from '../compile/compile.js';
import { stagedSchema, type Place } from '../model/place.js';
import { policySteps } from './steps/load-steps.js';
import { policyContext } from './policy/context.js';
import type { LoadStep } from '../compile/steps.js';

const placeOf = (name: string): Place => ({ schema: name.split('.')[0]!, name: name.split('.')[1]! });

const indented = (text: string) => text.replaceAll(/^(?=.)/gm, '  ');
const nested = (steps: readonly LoadStep[]) => indented(steps.map(textOf).join('\n'));

/** A step as people read it: its SQL, and what becomes of its rows as a comment. */
function textOf(step: LoadStep): string {
  switch (step.step) {
    case 'run':
      return `${step.sql};`;
    case 'guard': {
      const asks = step.asks?.length ? `\n${nested(step.asks)}` : '';
      const shows = step.rows === undefined ? '' : `\n-- shows\n${step.rows};`;
      return `-- stops: ${step.message}${step.check ? ` [${step.check}]` : ''}${step.hint ? `: ${step.hint}` : ''}\n${step.sql};${shows}${asks}`;
    }
    case 'prove':
      return `-- fails where these find rows\n${step.sql};\n${nested(step.guards)}`;
    case 'count':
      return `-- counts\n${step.sql};${Object.entries(step.rows)
        .map(([name, rows]) => `\n-- ${name}: ${rows};`)
        .join('')}`;
    case 'explain':
      return `-- explains\n${step.sql};`;
    case 'when':
      return `-- where needed\n${step.sql};\n${nested(step.steps)}`;
    case 'either':
      return `-- where it holds\n${step.sql};\n${nested(step.then)}\n-- otherwise\n${nested(step.otherwise)}`;
    case 'choose':
      return `-- chooses a shape\n${step.sql};\n-- in place\n${nested(step.inPlace)}\n-- rewritten\n${nested(step.rewrite)}`;
  }
}

export interface LoadCase {
  /** What is between `create table core.t (` and the query, closing options included. */
  readonly contract: string;
  readonly query: string;
  readonly files?: Readonly<Record<string, string>>;
  /** Whether the table is empty. */
  readonly first?: boolean;
  /** Whether open versions are corrected, as a release may ask. */
  readonly corrects?: boolean;
}

/** All statements of one load of `core.t`, as text. @throws Error for a contract with errors */
export function loadText({ contract, query, files = {}, first = false, corrects = false }: LoadCase): string {
  const project = projectOf({ ...files, 'core/t.sql': `create table core.t (${contract};\n${query};` });
  const wrong = project.diagnostics.filter((d) => d.severity === 'error' && d.path === 'core/t.sql');
  if (wrong.length) throw new Error(wrong.map((d) => `${d.message} ${d.hint ?? ''}`).join('; '));
  const table = project.tables.get('core.t') as Definition;
  const own = placeOf('core.t');
  const names: Names = { placeOf, functionsSchema: 'functions' };
  const context = policyContext(
    project,
    table,
    { own, home: own, staged: { schema: stagedSchema('core'), name: 't' }, names },
    {
      writable: ({ fullName }) => ({ own: placeOf(fullName), home: placeOf(fullName) }),
      corrects,
    },
  );
  const compiled = compileText(project.files.get(table.path)!, table.query!, table.query!, names);
  return policySteps(context, compiled, table.path, { first }).map(textOf).join('\n');
}
