import type { IncidentEvent } from '@ouvrage/api/incident';
import { Link } from 'react-router';
import { address } from '../../data/addresses';
import { useProject } from '../../data/project';
import { moment } from '../../shared/format';
import { VerdictMark } from '../../shared/marks';
import { Note } from '../../shared/note';
import { eventWords } from './words';

/** What happened, oldest first: what recorded itself, and what people did and said. */
export function Timeline({ events }: { events: readonly IncidentEvent[] }) {
  return (
    <ol className="mt-1 flex flex-col">
      {events.map((e) => (
        <li key={e.id} className="flex gap-3 py-1.5">
          <time dateTime={e.at} className="w-30 shrink-0 font-mono text-small leading-5 text-soft">
            {moment(e.at)}
          </time>
          <span className="flex h-5 w-3 shrink-0 items-center">
            <Mark event={e} />
          </span>
          <Said event={e} />
        </li>
      ))}
    </ol>
  );
}

function Mark({ event }: { event: IncidentEvent }) {
  if (event.verdict !== null) return <VerdictMark verdict={event.verdict} size={11} />;
  return (
    <span
      aria-hidden
      className={`size-2 border border-ink ${event.person === null || event.kind === 'release' ? '' : 'bg-ink'}`}
    />
  );
}

function Said({ event }: { event: IncidentEvent }) {
  const { slug, checks } = useProject();
  if (event.kind === 'remark')
    return (
      <div className="min-w-0">
        <span className="font-medium">{event.person}</span>
        <Note text={event.text ?? ''} className="max-w-160" />
      </div>
    );
  const titleOf = (subject: string) => {
    const check = checks.find((c) => c.id === subject);
    return check ? `${check.table}: ${check.title}` : subject;
  };
  const isRelease = event.kind === 'release';
  return (
    <p className="min-w-0 break-words">
      {event.run !== null && (
        <>
          <Link className="text-plan underline underline-offset-2" to={address.run(slug, event.run)}>
            run {event.run}
          </Link>
          :{' '}
        </>
      )}
      {event.person && !isRelease && <span className="font-medium">{event.person} </span>}
      {eventWords(event, titleOf)}
      {isRelease && event.person && ` by ${event.person}`}
    </p>
  );
}
