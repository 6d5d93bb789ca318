import { NavLink, useParams } from 'react-router';
import { useHarbourQuery } from '../../data/standin';
import { useProject } from '../../data/project';
import { mayAct, usePerson } from '../../data/person';
import { Empty } from '../../shared/ui/empty';
import { AuditLog } from './audit';
import { Connections } from './connections';
import { ProjectSettings } from './project';
import { Copies } from './copies';
import { Desks } from './desks';
import { Messages } from './messages';
import { Outbox } from './outbox';
import { People } from './people';
import { Sending } from './sending';
import { Workspaces } from './workspaces';
import { You } from './you';

const SECTIONS = [
  { key: 'you', title: 'You', Sheet: You, role: 'viewer' },
  { key: 'project', title: 'Project', Sheet: ProjectSettings, role: 'viewer' },
  { key: 'workspaces', title: 'Workspaces', Sheet: Workspaces, role: 'viewer' },
  { key: 'copies', title: 'Kept copies', Sheet: Copies, role: 'viewer' },
  { key: 'connections', title: 'Connections', Sheet: Connections, role: 'viewer' },
  { key: 'messages', title: 'Messages', Sheet: Messages, role: 'viewer' },
  { key: 'desks', title: 'Desks', Sheet: Desks, role: 'viewer' },
  { key: 'people', title: 'People', Sheet: People, role: 'administrator' },
  { key: 'sending', title: 'Sending', Sheet: Sending, role: 'administrator' },
  { key: 'outbox', title: 'Outbox', Sheet: Outbox, role: 'editor' },
  { key: 'log', title: 'Log', Sheet: AuditLog, role: 'administrator' },
] as const;

export default function Settings() {
  const person = usePerson();
  const { slug } = useProject();
  const { section = 'you' } = useParams();
  const { data: harbour } = useHarbourQuery();
  // Only the demo has receivers of its own.
  const open = SECTIONS.filter(
    (s) => mayAct(person, s.role) && (s.key !== 'outbox' || typeof harbour?.day === 'number'),
  );
  const chosen = open.find((s) => s.key === section);
  return (
    <div className="flex h-full min-h-0">
      <aside className="flex w-index shrink-0 flex-col border-r border-line bg-paper">
        <header className="px-3.5 py-3">
          <h1 className="font-cond text-title leading-tight font-semibold">Settings</h1>
          <p className="text-small text-soft">
            {person.displayName}, {person.role}
          </p>
        </header>
        <nav aria-label="Settings" className="flex flex-col">
          {open.map((s) => (
            <NavLink
              key={s.key}
              to={`/w/${slug}/settings/${s.key}`}
              aria-current={s === chosen ? 'page' : undefined}
              className={`border-l-3 px-3 py-1.5 ${s === chosen ? 'border-plan bg-sheet font-semibold' : 'border-transparent hover:bg-sheet/70'}`}
            >
              {s.title}
            </NavLink>
          ))}
        </nav>
      </aside>
      <section aria-label={chosen?.title ?? 'Settings'} className="min-w-0 flex-1 overflow-auto bg-sheet">
        <div className="flex flex-col gap-6 p-5">
          {chosen ? <chosen.Sheet /> : <Empty title="This page does not exist, or your role cannot see it" />}
        </div>
      </section>
    </div>
  );
}
