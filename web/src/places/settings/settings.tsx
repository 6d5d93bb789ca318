import { NavLink, useParams } from 'react-router';
import { useProject } from '../../data/project';
import { mayAct, usePerson } from '../../data/person';
import { Empty } from '../../shared/ui/empty';
import { AuditLog } from './audit';
import { Connections } from './connections';
import { ProjectSettings } from './project';
import { You } from './you';

const SECTIONS = [
  { key: 'you', title: 'You', Sheet: You, role: 'viewer' },
  { key: 'project', title: 'Project', Sheet: ProjectSettings, role: 'viewer' },
  { key: 'connections', title: 'Connections', Sheet: Connections, role: 'viewer' },
  { key: 'log', title: 'Log', Sheet: AuditLog, role: 'administrator' },
] as const;

export default function Settings() {
  const person = usePerson();
  const { slug } = useProject();
  const { section = 'you' } = useParams();
  const open = SECTIONS.filter((s) => mayAct(person, s.role));
  const chosen = open.find((s) => s.key === section);
  return (
    <div className="h-full overflow-auto bg-sheet">
      <div className="mx-auto flex max-w-[980px] flex-col gap-6 p-5">
        <header className="border-b-2 border-ink pb-2">
          <h1 className="font-cond text-[24px] font-semibold">Settings</h1>
          <p className="text-soft">
            {person.displayName}, {person.role}
          </p>
        </header>
        <nav aria-label="Settings" className="-mt-3 flex gap-5 border-b border-line">
          {open.map((s) => (
            <NavLink
              key={s.key}
              to={`/w/${slug}/settings/${s.key}`}
              aria-current={s === chosen ? 'page' : undefined}
              className={`border-b-2 pb-1 ${s === chosen ? 'border-plan font-medium text-plan' : 'border-transparent text-ink hover:text-plan'}`}
            >
              {s.title}
            </NavLink>
          ))}
        </nav>
        {chosen ? <chosen.Sheet /> : <Empty title="This page does not exist, or your role cannot see it" />}
      </div>
    </div>
  );
}
