import type { TodayAnswer } from '@ouvrage/api/release';
import { Link } from 'react-router';
import { address } from '../../data/addresses';
import { useReceiversQuery } from '../../data/messages';
import { usePerson } from '../../data/person';
import { useProject } from '../../data/project';
import { useQualityDaysQuery } from '../../data/quality';
import { ago, plural } from '../../shared/format';
import { Hatch, VerdictMark } from '../../shared/marks';
import { DraftsImpact } from './drafts-impact';

const DAYS = 21;
/** Tables that are listed; Quality has them all. */
const SHOWN = 10;

/** How the tables that the person or a desk of theirs owns were on each of the last days, in production. */
export function YourTables() {
  const { slug, summary, layerPosition } = useProject();
  const person = usePerson();
  const { data: receivers } = useReceiversQuery();
  const { data } = useQualityDaysQuery({ slug: 'production', of: 'here', days: DAYS });
  const names = new Set([
    person.name.toLowerCase(),
    person.displayName.toLowerCase(),
    ...(receivers?.desks ?? []).filter((d) => d.members.includes(person.name)).map((d) => d.name.toLowerCase()),
  ]);
  const own = new Set(
    summary.tables.flatMap((t) =>
      t.owner !== undefined && names.has(t.owner.trim().toLowerCase()) ? [t.fullName] : [],
    ),
  );
  const shown = (data?.tables ?? [])
    .filter((t) => own.has(t.table))
    .sort((a, b) => layerPosition(a.table) - layerPosition(b.table) || a.table.localeCompare(b.table));
  if (shown.length === 0) return null;
  return (
    <section>
      <h2 className="caps pb-1">Your tables, last {DAYS} days</h2>
      <table className="w-full table-fixed border-collapse" aria-label={`Your tables, last ${DAYS} days`}>
        <colgroup>
          <col className="w-46" />
          <col span={DAYS} />
        </colgroup>
        <thead className="sr-only">
          <tr>
            <th scope="col">Table</th>
            {data!.days.map((day) => (
              <th key={day} scope="col">
                {day}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {shown.slice(0, SHOWN).map(({ table, verdicts }) => (
            <tr key={table} className="border-b border-line">
              <th scope="row" className="py-1 text-left font-normal">
                <Link
                  className="flex items-center gap-2 hover:underline"
                  to={`${address.place(slug, 'quality')}?table=${encodeURIComponent(table)}`}
                >
                  <Hatch position={layerPosition(table)} />
                  <span className="truncate" title={table}>
                    {table}
                  </span>
                </Link>
              </th>
              {verdicts.map((verdict, i) => (
                <td key={data!.days[i]} className="p-0 text-center leading-none" title={data!.days[i]}>
                  {verdict === 'holds' ? (
                    <span role="img" aria-label="holds" className="inline-block size-1 rounded-full bg-soft" />
                  ) : (
                    verdict && (
                      <span className="inline-block">
                        <VerdictMark verdict={verdict} size={10} />
                      </span>
                    )
                  )}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
      {shown.length > SHOWN && (
        <p className="pt-1 text-soft">
          and {shown.length - SHOWN} more under{' '}
          <Link className="text-plan underline underline-offset-2" to={address.place(slug, 'quality')}>
            Quality
          </Link>
        </p>
      )}
    </section>
  );
}

/** Drafts here, and the person's workspaces with what is left to release. */
export function Yours({ data: { drafts, yours } }: { data: TodayAnswer }) {
  const { slug } = useProject();
  if (drafts.length === 0 && yours.length === 0) return null;
  return (
    <section aria-label="Yours">
      <h2 className="caps border-b border-line pb-1">Yours</h2>
      <ul className="py-1">
        {yours.map((w) => (
          <li key={w.slug} className="truncate py-0.5">
            <Link className="text-plan underline underline-offset-2" to={address.place(w.slug, 'releases')}>
              {w.slug}
            </Link>{' '}
            <span className="text-soft">{leftWords(w)}</span>
          </li>
        ))}
      </ul>
      {drafts.length > 0 && (
        <>
          <h3 className="caps pt-2">
            Drafts here <span className="font-mono">{drafts.length}</span>
          </h3>
          <ul>
            {drafts.slice(0, SHOWN).map((d) => (
              <li key={d.path} className="flex justify-between gap-3 py-0.5">
                <Link
                  className="truncate text-plan underline underline-offset-2"
                  to={address.file(slug, d.path)}
                  title={d.path}
                >
                  {d.path}
                </Link>
                <span className="shrink-0 text-soft">
                  {d.by}, {ago(d.at)}
                </span>
              </li>
            ))}
          </ul>
          {drafts.length > SHOWN && <p className="text-soft">and {drafts.length - SHOWN} more</p>}
        </>
      )}
      <DraftsImpact />
    </section>
  );
}

function leftWords({ drafts, commits }: TodayAnswer['yours'][number]): string {
  const left = [
    ...(drafts > 0 ? [plural(drafts, 'draft')] : []),
    ...(commits > 0 ? [`${plural(commits, 'commit')} not released`] : []),
  ];
  return left.length ? left.join(', ') : 'nothing left to release';
}
