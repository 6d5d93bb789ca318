import type { CheckState } from '@ouvrage/api/quality';
import type { Verdict } from '@ouvrage/core/check';
import { useMemo, useState } from 'react';
import { useNavigate, useParams } from 'react-router';
import { address } from '../../data/addresses';
import { useProject } from '../../data/project';
import { count, plural } from '../../shared/format';
import { Hatch, VerdictMark } from '../../shared/marks';
import { Empty } from '../../shared/ui/empty';
import { CheckDetail } from './check-detail';
import { CheckLine } from './check-line';
import { RunChecks } from './run-checks';
import { VirtualList } from '../../shared/ui/virtual-list';

const VERDICTS: readonly Verdict[] = ['broken', 'advisory', 'not run', 'holds'];

/** A table with its checks under it, or one of them. */
type Line = { readonly table: string; readonly checks: number } | { readonly check: CheckState };

/** The checks of all tables, the worst first within each. */
export default function Quality() {
  const { slug, checks, layerPosition } = useProject();
  const { '*': id } = useParams();
  const navigate = useNavigate();
  const [only, setOnly] = useState<Verdict>();
  const counts = useMemo(
    () => new Map(VERDICTS.map((v) => [v, checks.filter((c) => c.verdict === v).length])),
    [checks],
  );
  const tables = useMemo(() => {
    const shown = checks.filter((c) => only === undefined || c.verdict === only);
    const groups = new Map<string, CheckState[]>();
    for (const c of shown) {
      const list = groups.get(c.table);
      if (list) list.push(c);
      else groups.set(c.table, [c]);
    }
    const rank = (list: typeof checks) => Math.min(...list.map((c) => VERDICTS.indexOf(c.verdict)));
    return [...groups]
      .map(
        ([table, list]) =>
          [table, [...list].sort((a, b) => VERDICTS.indexOf(a.verdict) - VERDICTS.indexOf(b.verdict))] as const,
      )
      .sort((a, b) => rank(a[1]) - rank(b[1]) || a[0].localeCompare(b[0]));
  }, [checks, only]);
  const lines = useMemo(
    () =>
      tables.flatMap(([table, list]): Line[] => [{ table, checks: list.length }, ...list.map((check) => ({ check }))]),
    [tables],
  );
  const current = checks.find((c) => c.id === id) ?? (id ? undefined : tables[0]?.[1][0]);
  const layer = (table: string) => Math.max(0, layerPosition(table));

  if (checks.length === 0) {
    return (
      <Empty title="The project has no checks yet">
        <p>
          Start with keys and not null: write them in a table’s contract, before its query. They run with each load.
        </p>
      </Empty>
    );
  }
  return (
    <div className="flex h-full min-h-0">
      <aside aria-label="Checks" className="flex w-97.5 shrink-0 flex-col border-r border-line bg-paper">
        <div className="flex gap-1 border-b border-line p-2" role="group" aria-label="Only checks that">
          {VERDICTS.map((v) => (
            <button
              key={v}
              type="button"
              aria-pressed={only === v}
              onClick={() => setOnly(only === v ? undefined : v)}
              className={`flex h-control-small min-w-0 items-center gap-1 rounded-edge border px-1 whitespace-nowrap ${only === v ? 'border-plan bg-wash' : 'border-line bg-sheet hover:bg-raised'}`}
            >
              <VerdictMark verdict={v} size={11} /> {v}{' '}
              <span className="font-mono text-small">{count(counts.get(v))}</span>
            </button>
          ))}
        </div>
        <div className="flex justify-end border-b border-line p-2">
          <RunChecks>Run all checks</RunChecks>
        </div>
        {tables.length === 0 && <Empty title={`No check is ${only}`} />}
        <VirtualList
          label="Checks by table"
          items={lines}
          keyOf={(line) => ('check' in line ? line.check.id : `table ${line.table}`)}
          height={34}
          current={lines.findIndex((line) => 'check' in line && line.check.id === id)}
          className="flex-1"
        >
          {(line) =>
            'check' in line ? (
              <CheckLine
                check={line.check}
                current={line.check.id === current?.id}
                onChoose={(next) => void navigate(address.check(slug, next))}
              />
            ) : (
              <h2 className="flex items-center gap-2 px-3 pt-3 pb-1">
                <Hatch position={layer(line.table)} />
                <span className="min-w-0 truncate font-medium" title={line.table}>
                  {line.table}
                </span>
                <span className="shrink-0 text-small text-soft">{plural(line.checks, 'check')}</span>
              </h2>
            )
          }
        </VirtualList>
      </aside>
      <section className="min-w-0 flex-1 overflow-auto bg-sheet">
        {current ? <CheckDetail key={current.id} check={current} /> : <Empty title="This check does not exist" />}
      </section>
    </div>
  );
}
