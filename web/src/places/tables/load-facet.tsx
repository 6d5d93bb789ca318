import { useState } from 'react';
import { scriptAddress, useScriptQuery, type ScriptForm } from '../../data/runs';
import { useProject } from '../../data/project';
import type { ProblemBody } from '@ouvrage/api/problem';
import { Sql } from '../../shared/diff';
import { inputClass } from '../../shared/ui/input';
import { ProblemNote } from '../../shared/ui/problem-note';
import { Loading } from '../../shared/ui/loading';
import type { TableSummary } from '../../worker/protocol';

/** The SQL that loads a table here, to be read before it runs and to be exported. */
export function LoadFacet({ table, unsaved }: { table: TableSummary; unsaved: boolean }) {
  const { slug } = useProject();
  const [upstream, setUpstream] = useState(false);
  const [form, setForm] = useState<ScriptForm>('script');
  const of = { tables: table.fullName, upstream, form };
  const { data, error, isFetching, refetch } = useScriptQuery({ slug, ...of }, { refetchOnMountOrArgChange: true });
  return (
    <div className="flex h-full min-h-0 flex-col">
      <div className="flex min-h-9.5 shrink-0 flex-wrap items-center gap-3 border-b border-line px-3.5 text-small">
        <label className="flex items-center gap-2">
          <input type="checkbox" checked={upstream} onChange={(e) => setUpstream(e.target.checked)} /> with what it
          needs
        </label>
        <select
          aria-label="Form"
          value={form}
          onChange={(e) => setForm(e.target.value as ScriptForm)}
          className={`${inputClass} w-48!`}
        >
          <option value="script">one script for psql</option>
          <option value="procedures">stored procedures</option>
        </select>
        {unsaved && <span className="text-advisory-text">unsaved text is not included</span>}
        <span className="flex-1" />
        <a
          href={scriptAddress(slug, of)}
          download={`${table.fullName}.${form}.sql`}
          className="font-medium text-plan hover:underline"
        >
          Save
        </a>
      </div>
      <div className="min-h-0 flex-1">
        {error ? (
          <div className="p-3">
            <ProblemNote problem={error as ProblemBody} again={() => void refetch()} />
          </div>
        ) : data === undefined || isFetching ? (
          <Loading what="Writing the SQL" />
        ) : (
          <Sql text={data} label={`SQL that loads ${table.fullName}`} tall />
        )}
      </div>
    </div>
  );
}
