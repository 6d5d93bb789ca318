import { Search } from 'lucide-react';
import { DropdownMenu } from 'radix-ui';
import { useEffect, useState, type ReactNode } from 'react';
import { NavLink, Outlet, useLocation, useNavigate, useParams } from 'react-router';
import { plural } from '../shared/format';
import { useTell } from '../shared/toasts';
import { address, PLACES } from '../data/addresses';
import { useNoticesQuery } from '../data/messages';
import { count } from '../shared/format';
import { useSignOutMutation } from '../data/people';
import { useWorkspacesQuery } from '../data/workspaces';
import { Finder } from './finder';
import { KeysHelp } from './keys-help';
import { useProject } from '../data/project';
import { mayAct, PRODUCTION, usePerson } from '../data/person';
import { OpenWorkspace } from '../places/open-workspace';
import { textsForgotten, themeChosen, useAppDispatch, useAppSelector } from '../data/store';
import { keepUnsaved } from '../data/unsaved';
import { useUnsaved } from '../shared/use-unsaved';

/** The dark strip over every sheet, and the sheet. */
export function Frame() {
  const { ws = PRODUCTION } = useParams();
  const inIncidents = useLocation().pathname.startsWith(`${address.incidents(ws)}`);
  const [finding, setFinding] = useState(false);
  const [helping, setHelping] = useState(false);
  const person = usePerson();
  useUnsaved(person.name, useProject().project);
  useEffect(() => {
    const onKey = (e: KeyboardEvent) => {
      const typing = e.target instanceof Element && e.target.closest('input, textarea, [contenteditable="true"]');
      if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === 'k') {
        e.preventDefault();
        setFinding((open) => !open);
      } else if (e.key === '?' && !typing) setHelping(true);
    };
    window.addEventListener('keydown', onKey);
    return () => window.removeEventListener('keydown', onKey);
  }, []);
  return (
    <div className="flex h-full flex-col">
      <a href="#sheet" className="sr-only focus:not-sr-only focus:absolute focus:z-50 focus:bg-raised focus:p-2">
        Skip to the sheet
      </a>
      <header className="strip flex h-11 shrink-0 items-center gap-2 bg-strip pr-3 pl-3.5 text-strip-text">
        <span className="mr-4 font-cond text-title font-semibold">Ouvrage</span>
        <nav aria-label="Places" className="flex h-full">
          {PLACES.map(([place, label]) => (
            <NavLink
              key={place}
              to={address.place(ws, place)}
              className={({ isActive }) =>
                `flex h-full items-center border-y-3 border-t-transparent px-2.5 font-medium ${isActive || (place === 'quality' && inIncidents) ? 'border-b-accent text-white' : 'border-b-transparent text-strip-text hover:text-white'}`
              }
            >
              {label}
              {place === 'today' && <Unread />}
            </NavLink>
          ))}
        </nav>
        <span className="flex-1" />
        <button
          type="button"
          onClick={() => setFinding(true)}
          className="flex h-control w-47 items-center gap-2 rounded-edge border border-strip-soft/40 px-2 text-left text-strip-soft hover:border-strip-soft"
        >
          <Search size={13} aria-hidden />
          <span className="flex-1">Find anything</span>
          <kbd className="font-mono text-tiny">Ctrl K</kbd>
        </button>
        <WorkspaceMenu ws={ws} />
        <PersonMenu ws={ws} onKeys={() => setHelping(true)} />
      </header>
      <main id="sheet" tabIndex={-1} className="min-h-0 flex-1 outline-none">
        <Outlet />
      </main>
      <Finder open={finding} onClose={() => setFinding(false)} />
      <KeysHelp open={helping} onClose={() => setHelping(false)} />
    </div>
  );
}

const menuClass = 'z-50 min-w-56 border border-rule bg-raised py-1 text-ink shadow-lg';
const itemClass =
  'flex w-full cursor-pointer items-center justify-between gap-4 px-3 py-1.5 outline-none data-[highlighted]:bg-wash';

function WorkspaceMenu({ ws }: { ws: string }) {
  const { data: workspaces = [] } = useWorkspacesQuery();
  const [opening, setOpening] = useState(false);
  const navigate = useNavigate();
  const person = usePerson();
  const current = workspaces.find((w) => w.slug === ws);
  const state = current ? plural(current.drafts, 'draft') : ws === PRODUCTION ? 'released' : '';
  const go = (slug: string) => void navigate(address.place(slug, location.pathname.split('/')[3] ?? 'today'));
  return (
    <>
      <DropdownMenu.Root>
        <DropdownMenu.Trigger className="flex h-control items-center gap-2 rounded-edge border border-strip-soft/40 px-2.5 hover:border-strip-soft">
          <span className="sr-only">Workspace: </span>
          <svg width="12" height="12" viewBox="0 0 12 12" aria-hidden>
            <path d="M2 12V2M2 5.5H9.5V12" fill="none" stroke="var(--accent)" strokeWidth="1.8" />
          </svg>
          <span className="max-w-36 truncate font-medium">
            {current?.name ?? (ws === PRODUCTION ? 'Production' : ws)}
          </span>
          <span className="text-strip-soft">{state}</span>
        </DropdownMenu.Trigger>
        <DropdownMenu.Portal>
          <DropdownMenu.Content align="end" sideOffset={6} className={menuClass}>
            <DropdownMenu.Label className="caps px-3 py-1">Workspaces</DropdownMenu.Label>
            <div className="max-h-half overflow-auto">
              {workspaces.map((w) => (
                <DropdownMenu.Item key={w.slug} className={itemClass} onSelect={() => go(w.slug)}>
                  <span className={w.slug === ws ? 'font-semibold' : ''}>{w.name}</span>
                  <span className="text-small text-soft">{w.owner}</span>
                </DropdownMenu.Item>
              ))}
            </div>
            <DropdownMenu.Item className={itemClass} onSelect={() => go(PRODUCTION)}>
              <span className={ws === PRODUCTION ? 'font-semibold' : ''}>Production</span>
              <span className="text-small text-soft">as released</span>
            </DropdownMenu.Item>
            {mayAct(person, 'editor') && (
              <>
                <DropdownMenu.Separator className="my-1 border-t border-line" />
                <DropdownMenu.Item className={`${itemClass} text-plan`} onSelect={() => setOpening(true)}>
                  Open a workspace …
                </DropdownMenu.Item>
              </>
            )}
          </DropdownMenu.Content>
        </DropdownMenu.Portal>
      </DropdownMenu.Root>
      <OpenWorkspace open={opening} onClose={() => setOpening(false)} onOpened={go} />
    </>
  );
}

function PersonMenu({ ws, onKeys }: { ws: string; onKeys: () => void }) {
  const person = usePerson();
  const theme = useAppSelector((s) => s.interface.theme);
  const unsaved = useAppSelector((s) => Object.keys(s.interface.typed).length);
  const { project } = useProject();
  const dispatch = useAppDispatch();
  const [signOut] = useSignOutMutation();
  const navigate = useNavigate();
  const tell = useTell();
  const initials = person.displayName
    .split(' ')
    .map((p) => p[0])
    .join('')
    .slice(0, 2);
  /** What is typed is one person's: the next one who signs in here does not see it. */
  const leave = () => {
    const forget = () => {
      keepUnsaved({ person: person.name, project }, {}, localStorage);
      dispatch(textsForgotten());
    };
    if (unsaved > 0 && !window.confirm(`Sign out and discard the unsaved text of ${plural(unsaved, 'file')}?`)) return;
    void signOut().unwrap().then(forget, tell.problem);
  };
  const item = (label: ReactNode, act: () => void, aside?: string) => (
    <DropdownMenu.Item className={itemClass} onSelect={act}>
      <span>{label}</span>
      {aside && <span className="text-small text-soft">{aside}</span>}
    </DropdownMenu.Item>
  );
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger
        aria-label={`${person.displayName}, ${person.role}`}
        className="ml-1 flex h-control w-control items-center justify-center rounded-full bg-accent font-cond text-small font-semibold text-on-accent"
      >
        {initials}
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content align="end" sideOffset={6} className={menuClass}>
          <div className="px-3 py-1.5">
            <p className="font-medium">{person.displayName}</p>
            <p className="text-small text-soft">{person.role}</p>
          </div>
          <DropdownMenu.Separator className="my-1 border-t border-line" />
          {item('Settings', () => void navigate(address.place(ws, 'settings')))}
          {item(
            theme === 'paper' ? 'Blueprint (dark)' : 'Paper (light)',
            () => dispatch(themeChosen(theme === 'paper' ? 'blueprint' : 'paper')),
            'theme',
          )}
          {item('Keys', onKeys, '?')}
          {item('Sign out', leave)}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

/** How often is looked for new messages. */
const POLL_MS = 30_000;

/** How many messages the person has not read yet. */
function Unread() {
  const { data } = useNoticesQuery(undefined, { pollingInterval: POLL_MS, skipPollingIfUnfocused: true });
  if (!data?.unread) return null;
  return (
    <span className="ml-1.5 rounded-edge bg-accent px-1 text-tiny leading-4 font-semibold text-strip">
      {count(data.unread)}
      <span className="sr-only"> unread</span>
    </span>
  );
}
