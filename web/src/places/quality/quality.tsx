import type { ProblemBody } from '@ouvrage/api/problem';
import type { WatchFinding } from '@ouvrage/api/watch';
import type { Verdict } from '@ouvrage/core/check';
import { useMemo, useState } from 'react';
import { Link, useNavigate, useParams, useSearchParams } from 'react-router';
import { address } from '../../data/addresses';
import { useProject } from '../../data/project';
import { qualityFile, useQualityDaysQuery, type VerdictsOf, ZONE } from '../../data/quality';
import { useWatchFindingsQuery } from '../../data/watches';
import { useIncidentsQuery } from '../../data/incidents';
import { count, plural } from '../../shared/format';
import { VerdictMark } from '../../shared/marks';
import { Empty } from '../../shared/ui/empty';
import { Loading } from '../../shared/ui/loading';
import { ProblemNote } from '../../shared/ui/problem-note';
import { CheckDetail } from './check-detail';
import { Coverage } from './coverage';
import { DayPanel } from './day-panel';
import { DaySheet } from './day-sheet';
import { RunChecks } from '../../shared/run-checks';
import { SaveAs } from './save-as';
import { WatchPanel } from './watch-panel';
import { narrowed, sheetRows, VERDICTS, type Narrowing } from './sheet-rows';

const LENGTHS = [7, 30, 90] as const;
const NO_FINDINGS: readonly WatchFinding[] = [];

/** Verdicts of all tables by days; below, what ran on one day, or one check. */
export default function Quality() {
  const { slug, checks, summary, isProduction, layerPosition } = useProject();
  const { '*': id } = useParams();
  const [search, setSearch] = useSearchParams();
  const navigate = useNavigate();
  const [narrowing, setNarrowing] = useState<Narrowing>({});
  const [days, setDays] = useState<number>(30);
  const [of, setOf] = useState<VerdictsOf>(isProduction ? 'production' : 'here');
  const { data, error, isLoading, refetch } = useQualityDaysQuery({ slug, of, days });
  const { data: findings = NO_FINDINGS } = useWatchFindingsQuery();
  const rows = useMemo(
    () =>
      sheetRows({
        tables: summary.tables,
        checks,
        days: data,
        findings: of === 'production' ? findings : [],
        layerPosition,
      }),
    [summary.tables, checks, data, findings, of, layerPosition],
  );
  const shown = useMemo(() => narrowed(rows, narrowing), [rows, narrowing]);
  const isCoverage = search.get('view') === 'coverage';
  const [table, day, watch] = [search.get('table'), search.get('day'), search.get('watch')];
  const current = id ? checks.find((c) => c.id === id) : undefined;
  const owners = useMemo(() => [...new Set(rows.flatMap((r) => r.owner ?? []))].sort(), [rows]);
  if (checks.length === 0 && rows.length === 0)
    return (
      <Empty title="The project has no checks yet">
        <p>
          Start with keys and not null: write them in a table’s contract, before its query. They run with each load.
        </p>
      </Empty>
    );
  const narrow = (by: Partial<Narrowing>) => setNarrowing({ ...narrowing, ...by });
  const select = 'h-control max-w-26 rounded-edge border border-rule bg-raised pl-2';
  return (
    <div className="flex h-full min-h-0 flex-col bg-sheet">
      <header className="flex flex-wrap items-center gap-2 border-b border-line px-4 py-2">
        <h1 className="sheet-title pr-2">Quality</h1>
        <div className="flex gap-1" role="group" aria-label="Only tables with checks that">
          {VERDICTS.map((v) => (
            <button
              key={v}
              type="button"
              aria-pressed={narrowing.verdict === v}
              onClick={() => narrow({ verdict: narrowing.verdict === v ? undefined : v })}
              className={`flex h-control-small items-center gap-1 rounded-edge border px-1.5 whitespace-nowrap ${narrowing.verdict === v ? 'border-plan bg-wash' : 'border-transparent hover:bg-wash'}`}
            >
              <VerdictMark verdict={v} size={11} /> {v}{' '}
              <span className="font-mono text-small">{count(verdictCount(checks, v))}</span>
            </button>
          ))}
        </div>
        <span className="flex-1" />
        {!isCoverage && summary.layers.length > 1 && (
          <select
            aria-label="Layer"
            className={select}
            value={narrowing.layer ?? ''}
            onChange={(e) => narrow({ layer: e.target.value || undefined })}
          >
            <option value="">all layers</option>
            {summary.layers.map((l) => (
              <option key={l.name}>{l.name}</option>
            ))}
          </select>
        )}
        {!isCoverage && owners.length > 0 && (
          <select
            aria-label="Owner"
            className={select}
            value={narrowing.owner ?? ''}
            onChange={(e) => narrow({ owner: e.target.value || undefined })}
          >
            <option value="">all owners</option>
            {owners.map((o) => (
              <option key={o}>{o}</option>
            ))}
          </select>
        )}
        {!isProduction && (
          <select
            aria-label="Runs of"
            className={select}
            value={of}
            onChange={(e) => setOf(e.target.value as VerdictsOf)}
          >
            <option value="here">{slug}</option>
            <option value="production">production</option>
          </select>
        )}
        <select
          aria-label="How long"
          className={select}
          value={days}
          onChange={(e) => setDays(Number(e.target.value))}
          title={`Days of ${ZONE}`}
        >
          {LENGTHS.map((n) => (
            <option key={n} value={n}>
              {n} days
            </option>
          ))}
        </select>
        <button
          type="button"
          aria-pressed={isCoverage}
          onClick={() => setSearch(isCoverage ? {} : { view: 'coverage' })}
          className={`h-control rounded-edge border px-3 font-medium ${isCoverage ? 'border-plan bg-wash' : 'border-rule bg-raised hover:bg-wash'}`}
        >
          Coverage
        </button>
        <OpenIncidents />
        <SaveAs address={(format) => qualityFile(slug, { of, days, format })} />
        <RunChecks>Run all</RunChecks>
      </header>
      {isCoverage ? (
        <Coverage />
      ) : error ? (
        <ProblemNote problem={error as ProblemBody} again={() => void refetch()} />
      ) : isLoading || !data ? (
        <Loading what="Reading verdicts" />
      ) : (
        <>
          <div className={`flex min-h-0 flex-col ${id || table ? 'basis-[45%]' : 'flex-1'}`}>
            {shown.length === 0 ? (
              <Empty title="No table is like that" />
            ) : (
              <DaySheet
                rows={shown}
                days={data.days}
                chosen={{ table: table ?? current?.table ?? undefined, day: day ?? undefined }}
                onChoose={(place) => void navigate(address.day(slug, place))}
              />
            )}
          </div>
          {(id || (table && (day ?? watch))) && (
            <section aria-label="Details" className="min-h-0 flex-1 overflow-auto border-t-2 border-ink" tabIndex={0}>
              {id ? (
                current ? (
                  <CheckDetail key={current.id} check={current} />
                ) : (
                  <Empty title="This check does not exist">
                    <Link className="text-plan underline" to={address.place(slug, 'quality')}>
                      All tables
                    </Link>
                  </Empty>
                )
              ) : watch ? (
                <WatchPanel key={`${table} ${watch}`} table={table!} measure={watch} />
              ) : (
                <DayPanel of={of} table={table!} day={day!} />
              )}
            </section>
          )}
        </>
      )}
    </div>
  );
}

/** How many incidents are open, and the way to them. */
function OpenIncidents() {
  const { slug } = useProject();
  const { data } = useIncidentsQuery();
  const open = data?.incidents.filter((i) => i.state !== 'closed').length ?? 0;
  return (
    <Link
      to={address.incidents(slug)}
      className="flex h-control items-center rounded-edge border border-rule bg-raised px-3 font-medium hover:bg-wash"
    >
      {open === 0 ? 'Incidents' : plural(open, 'open incident')}
    </Link>
  );
}

const verdictCount = (checks: readonly { readonly verdict: Verdict }[], verdict: Verdict) =>
  checks.filter((c) => c.verdict === verdict).length;
