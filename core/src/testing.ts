import { changeFiles, readProject } from './resolve/read-project.js';
import type { Project } from './model/project.js';

/** A small project for tests: layers, one source, whatever files a case adds or replaces. */
export const BASE_FILES: Readonly<Record<string, string>> = {
  'layers.sql': `create schema landing; create schema reference; create schema staging; create schema core; create schema mart;
comment on schema core is 'What the port agrees on.';`,
  'parameters.sql': `set param.region = 'north';`,
  'sources/port.sql': `create server port foreign data wrapper postgres_fdw;
create foreign table landing.berth (
  berth_id integer options (column_name 'BerthID') not null,
  berth_code text not null,
  length_m numeric(6,1),
  primary key (berth_id)
) server port options (schema_name 'ops', table_name 'berths');
create foreign table landing.call (call_no text not null, berth_code text, tonnage numeric(12,2), arrived_at timestamptz) server port;`,
  'reference/flag.csv': 'flag_code,flag_name\nMR,Marravel\nOS,"Ossery Sound"\n',
  'staging/berth.sql': `-- berths\nselect berth_code, length_m::numeric(6,1) as length_m from landing.berth;`,
  'staging/call.sql': `select c.call_no, c.berth_code, c.tonnage from landing.call c`,
  'core/fact_call.sql': `create table core.fact_call as
select c.call_no, b.length_m, c.tonnage from staging.call c join staging.berth b using (berth_code);`,
};

export function projectOf(files: Readonly<Record<string, string | null>> = {}): Project {
  const all = new Map(Object.entries(BASE_FILES));
  for (const [path, text] of Object.entries(files)) {
    if (text === null) all.delete(path);
    else all.set(path, text);
  }
  return readProject(all);
}

export function changed(project: Project, files: Readonly<Record<string, string | null>>): Project {
  return changeFiles(project, new Map(Object.entries(files)));
}

/** Diagnostics as `path:word: message (hint)`, the word being the text of the range. */
export function problems(project: Project): string[] {
  return project.diagnostics.map((d) => {
    const text = project.files.get(d.path)?.text.slice(d.range.start, d.range.end) ?? '';
    return `${d.path} [${text}] ${d.message}${d.hint ? ` (${d.hint})` : ''}`;
  });
}
