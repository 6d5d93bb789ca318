import type { IncidentEntry } from '@ouvrage/api/incident';
import type { ProblemBody } from '@ouvrage/api/problem';
import { Link, Navigate, useParams } from 'react-router';
import { address } from '../../data/addresses';
import { useIncidentsQuery } from '../../data/incidents';
import { useProject } from '../../data/project';
import { Empty } from '../../shared/ui/empty';
import { Loading } from '../../shared/ui/loading';
import { ProblemNote } from '../../shared/ui/problem-note';
import { VirtualList } from '../../shared/ui/virtual-list';
import { IncidentSheet } from './incident-sheet';
import { Numbers } from './numbers';
import { stateWords } from './words';

/** Incidents of production: open ones first, and one of them. */
export default function Incidents() {
  const { slug } = useProject();
  const { id } = useParams();
  const { data, error, isLoading, refetch } = useIncidentsQuery(undefined, {
    pollingInterval: 20_000,
    skipPollingIfUnfocused: true,
  });
  if (isLoading) return <Loading what="Reading incidents" />;
  if (error || !data) return <ProblemNote problem={error as ProblemBody} again={() => void refetch()} />;
  const { incidents, people } = data;
  const open = incidents.filter((i) => i.state !== 'closed').length;
  if (id === undefined && incidents[0]) return <Navigate replace to={address.incident(slug, incidents[0].id)} />;
  return (
    <div className="flex h-full min-h-0">
      <aside aria-label="Incidents" className="flex w-65.5 shrink-0 flex-col border-r border-line bg-paper">
        <div className="flex items-baseline justify-between border-b border-line px-3.5 py-2.5">
          <h2 className="caps">Incidents</h2>
          <Link
            className="text-soft hover:underline"
            to={`${address.incidents(slug)}/numbers`}
            aria-current={id === 'numbers' ? 'page' : undefined}
          >
            {open} open, numbers
          </Link>
        </div>
        <VirtualList
          label="Incidents"
          items={incidents}
          keyOf={(i) => String(i.id)}
          height={56}
          current={incidents.findIndex((i) => String(i.id) === id)}
          className="flex-1"
        >
          {(incident) => <Entry incident={incident} isCurrent={String(incident.id) === id} />}
        </VirtualList>
      </aside>
      {id === 'numbers' ? (
        <Numbers incidents={incidents} />
      ) : id !== undefined && /^\d{1,9}$/.test(id) ? (
        <IncidentSheet key={id} id={Number(id)} people={people} others={incidents} />
      ) : (
        <section className="min-w-0 flex-1 bg-sheet">
          <Empty title={id === undefined ? 'No incidents yet' : 'This incident does not exist'}>
            <p>
              Open one from a failing check, a failed run or a late source; or give a check or a table the option
              open_incident, and it opens by itself when production fails.
            </p>
          </Empty>
        </section>
      )}
    </div>
  );
}

function Entry({ incident, isCurrent }: { incident: IncidentEntry; isCurrent: boolean }) {
  const { slug } = useProject();
  return (
    <Link
      to={address.incident(slug, incident.id)}
      aria-current={isCurrent ? 'page' : undefined}
      className={`block border-b border-l-3 border-b-line px-3 py-2 ${isCurrent ? 'border-l-plan bg-sheet' : 'border-l-transparent hover:bg-sheet/70'}`}
    >
      <span className="line-clamp-2 font-medium" title={incident.title}>
        {incident.id}. {incident.title}
      </span>
      <span
        className={`text-small ${incident.state === 'closed' ? 'text-soft' : incident.severity === 'low' ? 'text-advisory-text' : 'text-broken'}`}
      >
        {stateWords(incident)}
      </span>
    </Link>
  );
}
