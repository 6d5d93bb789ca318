import { Link } from 'react-router';
import { address } from '../../data/addresses';
import { placeAddress, useProject } from '../../data/project';
import { plural } from '../../shared/format';
import type { ChangeImpact } from '@ouvrage/api/release';
import type { EditImpact } from '../../worker/protocol';

export const isQuiet = ({ breaks, values, rows }: ChangeImpact) => breaks.length + values.length + rows.length === 0;

/** Of each kind; more are told as a number. */
const MOST_NAMED = 4;

/** What an edit does elsewhere before it is saved: what breaks, whose values and whose rows change; each is a link. */
export function EditImpactLine({ impact }: { impact: EditImpact }) {
  return (
    <li aria-label="What this edit changes" className="flex flex-col gap-0.5 px-3.5 py-1">
      <ImpactText impact={impact} causes="This edit causes" />
    </li>
  );
}

/** @param causes the subject and the verb of what causes errors */
export function ImpactText({ impact: { breaks, values, rows }, causes }: { impact: ChangeImpact; causes: string }) {
  const project = useProject();
  const { slug } = project;
  return (
    <>
      {breaks.length > 0 && (
        <p className="text-broken">
          {causes} {plural(breaks.length, 'error')} in{' '}
          {plural(new Set(breaks.map((d) => d.path)).size, 'other definition', 'other definitions')}:{' '}
          <Named
            items={breaks}
            keyOf={(d) => `${d.path} ${d.line}.${d.column} ${d.message}`}
            addressOf={(d) => placeAddress(project, d)}
            nameOf={(d) => `${d.path}:${d.line}, ${d.message}`}
          />
        </p>
      )}
      {values.length > 0 && (
        <p>
          <span className="text-soft">Values may change in </span>
          <Named
            items={values}
            keyOf={(c) => `${c.table}.${c.column}`}
            addressOf={(c) => address.trace(slug, c)}
            nameOf={(c) => `${c.table}.${c.column}`}
          />
        </p>
      )}
      {rows.length > 0 && (
        <p>
          <span className="text-soft">Rows may change in </span>
          <Named
            items={rows}
            keyOf={(table) => table}
            addressOf={(table) => address.table(slug, table)}
            nameOf={(table) => table}
          />
        </p>
      )}
    </>
  );
}

function Named<T>({
  items,
  keyOf,
  addressOf,
  nameOf,
}: {
  items: readonly T[];
  keyOf: (item: T) => string;
  addressOf: (item: T) => string;
  nameOf: (item: T) => string;
}) {
  const more = items.length - MOST_NAMED;
  return (
    <>
      {items.slice(0, MOST_NAMED).map((item, i) => (
        <span key={keyOf(item)}>
          {i > 0 && ', '}
          <Link to={addressOf(item)} className="underline decoration-line hover:text-plan hover:decoration-plan">
            {nameOf(item)}
          </Link>
        </span>
      ))}
      {more > 0 && <span className="text-soft"> and {more} more</span>}
    </>
  );
}
