import type { IncidentSubject } from '@ouvrage/api/incident';
import { Link, useNavigate } from 'react-router';
import { address } from '../data/addresses';
import { useIncidentsQuery, useOpenIncidentMutation } from '../data/incidents';
import { usePerson, whyNot } from '../data/person';
import { useProject } from '../data/project';
import { useTell } from './toasts';
import { Button } from './ui/button';

/** Opens an incident about something in production, or leads to the one that is open. */
export function OpenIncident({ kind, subject }: Pick<IncidentSubject, 'kind' | 'subject'>) {
  const { slug } = useProject();
  const person = usePerson();
  const navigate = useNavigate();
  const tell = useTell();
  const { data } = useIncidentsQuery();
  const [open, { isLoading }] = useOpenIncidentMutation();
  const there = data?.incidents.find(
    (i) => i.state !== 'closed' && i.subjects.some((s) => s.kind === kind && s.subject === subject),
  );
  if (there)
    return (
      <Link className="text-plan underline underline-offset-2" to={address.incident(slug, there.id)}>
        incident {there.id}, {there.state}
      </Link>
    );
  const reason = whyNot(person, 'editor', 'open incidents');
  const begin = () =>
    open({ kind, subject })
      .unwrap()
      .then((made) => navigate(address.incident(slug, made.id)))
      .catch(tell.problem);
  return (
    <Button disabled={isLoading || !data} {...(reason ? { reason } : {})} onClick={() => void begin()}>
      Open incident
    </Button>
  );
}

/** The open incidents about a table, as links. */
export function TableIncidents({ table }: { table: string }) {
  const { slug } = useProject();
  const { data } = useIncidentsQuery();
  const open = data?.incidents.filter((i) => i.state !== 'closed' && i.subjects.some((s) => s.table === table)) ?? [];
  return open.map((i) => (
    <Link
      key={i.id}
      title={i.title}
      className="mr-1.5 text-small whitespace-nowrap text-broken underline underline-offset-2"
      to={address.incident(slug, i.id)}
    >
      incident {i.id}
    </Link>
  ));
}
