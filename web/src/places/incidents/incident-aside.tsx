import type { AffectedTable, IncidentDetail, IncidentEntry } from '@ouvrage/api/incident';
import { Link } from 'react-router';
import { address } from '../../data/addresses';
import { useProject } from '../../data/project';
import { useCheckSeriesQuery } from '../../data/quality';
import { count, plural } from '../../shared/format';
import { Hatch, VerdictMark } from '../../shared/marks';
import { SectionTitle } from '../../shared/ui/section-title';
import { lasting, stateWords } from './words';

const link = 'text-plan underline underline-offset-2';

/** How what it is about is now, what may have caused it, whom it affects, and what was before. */
export function IncidentAside({ incident }: { incident: IncidentDetail }) {
  const { slug } = useProject();
  return (
    <aside
      aria-label="Around the incident"
      className="flex w-80 shrink-0 flex-col gap-4 overflow-auto border-l border-line bg-paper p-3.5"
      tabIndex={0}
    >
      <section aria-label="Now" className="flex flex-col gap-1.5">
        <SectionTitle>Now</SectionTitle>
        {incident.now.map((n) => (
          <div key={n.subject} className="flex flex-col gap-1">
            <span className="flex items-center gap-2">
              <VerdictMark verdict={n.verdict} />
              {isCheck(incident, n.subject) ? (
                <Link className={link} to={address.check(slug, n.subject)}>
                  {n.title}
                </Link>
              ) : (
                n.title
              )}
            </span>
            {isCheck(incident, n.subject) && <Past id={n.subject} />}
          </div>
        ))}
      </section>
      <section aria-label="Upstream" className="flex flex-col gap-1.5">
        <SectionTitle>Upstream cause</SectionTitle>
        {incident.causes.length === 0 ? (
          <div className="text-soft">
            Nothing upstream fails. <Changes incident={incident} />
          </div>
        ) : (
          <Tables tables={incident.causes} />
        )}
      </section>
      {incident.related.length > 0 && (
        <section aria-label="Related" className="flex flex-col gap-1.5">
          <SectionTitle>Perhaps one incident</SectionTitle>
          <ul className="flex flex-col gap-1">
            {incident.related.map((r) => (
              <li key={r.id}>
                <Link className={link} to={address.incident(slug, r.id)}>
                  {r.id}. {r.title}
                </Link>
                <span className="block text-small text-soft">{r.why}</span>
              </li>
            ))}
          </ul>
        </section>
      )}
      <section aria-label="Affected" className="flex flex-col gap-1.5">
        <SectionTitle aside={plural(incident.affected.length, 'table')}>Who is affected</SectionTitle>
        {incident.affected.length === 0 ? (
          <p className="text-soft">No table reads it.</p>
        ) : (
          <Tables tables={incident.affected} />
        )}
      </section>
      <section aria-label="Before" className="flex flex-col gap-1.5">
        <SectionTitle>Before</SectionTitle>
        {incident.before.length === 0 ? (
          <p className="text-soft">No earlier incident of this.</p>
        ) : (
          <Before before={incident.before} />
        )}
      </section>
    </aside>
  );
}

const isCheck = (incident: IncidentDetail, subject: string) =>
  incident.subjects.some((s) => s.subject === subject && s.kind === 'check');

const BARS = 24;

/** Rows at fault of the newest verdicts, as small bars. */
function Past({ id }: { id: string }) {
  const { slug } = useProject();
  const { data } = useCheckSeriesQuery({ slug, of: 'production', id });
  const points = data?.points.slice(-BARS) ?? [];
  if (points.length < 2) return null;
  const most = Math.max(1, ...points.map((p) => Number(p.atFault ?? 0)));
  return (
    <div
      role="img"
      aria-label={`Rows at fault: ${points.map((p) => count(p.atFault)).join(', ')}`}
      className="flex h-12 items-end gap-0.5"
    >
      {points.map((p) => (
        <span
          key={`${p.run} ${p.at}`}
          title={`run ${p.run}: ${count(p.atFault)}`}
          className={`w-2.5 ${p.verdict === 'holds' ? 'bg-plan' : p.verdict === 'advisory' ? 'bg-advisory' : 'bg-broken'}`}
          style={{ height: `${Math.max(4, (Number(p.atFault ?? 0) / most) * 100)}%` }}
        />
      ))}
    </div>
  );
}

/** What was released, and which files came, before it broke. */
function Changes({ incident }: { incident: IncidentDetail }) {
  const { slug } = useProject();
  const check = incident.subjects.find((s) => s.kind === 'check');
  const { data } = useCheckSeriesQuery(
    { slug, of: 'production', id: check?.subject ?? '' },
    { skip: check === undefined || incident.state === 'closed' },
  );
  const { releases = [], files = [] } = data?.failing ?? {};
  if (releases.length + files.length === 0) return null;
  return (
    <>
      What changed before it broke:
      <ul className="flex flex-col gap-1 pt-1">
        {releases.map((r) => (
          <li key={r.id}>
            <Link className={link} to={address.place(slug, 'releases')}>
              release {r.id}, {r.message.split('\n')[0]}
            </Link>
          </li>
        ))}
        {files.map((f) => (
          <li key={`${f.file} ${f.at}`} className="break-words">
            {f.file} came into{' '}
            <Link className={link} to={address.table(slug, f.table, 'rows')}>
              {f.table}
            </Link>
          </li>
        ))}
      </ul>
    </>
  );
}

function Tables({ tables }: { tables: readonly AffectedTable[] }) {
  const { slug, layerPosition } = useProject();
  return (
    <ul className="flex flex-col gap-1">
      {tables.slice(0, 30).map((t) => (
        <li key={t.table} className="flex flex-wrap items-center gap-x-2">
          <Hatch position={Math.max(0, layerPosition(t.table))} />
          <Link className={link} to={address.table(slug, t.table, 'checks')}>
            {t.table}
          </Link>
          <span className="text-soft">{t.owner}</span>
          {t.failing > 0 && <span className="text-small text-broken">{plural(t.failing, 'check')} failing</span>}
          {t.incident !== null && (
            <Link className={`${link} text-small`} to={address.incident(slug, t.incident)}>
              incident {t.incident}
            </Link>
          )}
        </li>
      ))}
      {tables.length > 30 && <li className="text-soft">and {tables.length - 30} more</li>}
    </ul>
  );
}

function Before({ before }: { before: readonly IncidentEntry[] }) {
  const { slug } = useProject();
  const closed = before.filter((b) => b.closedAt !== null);
  return (
    <>
      <ul className="flex flex-col gap-1">
        {before.map((b) => (
          <li key={b.id}>
            <Link className={link} to={address.incident(slug, b.id)}>
              {b.id}. {b.title}
            </Link>
            <span className="block text-small text-soft">{stateWords(b)}</span>
          </li>
        ))}
      </ul>
      {closed.length > 1 && (
        <p className="text-soft">
          The last of {closed.length} took {lasting(closed[0]!.openedAt, closed[0]!.closedAt)}.
        </p>
      )}
    </>
  );
}
