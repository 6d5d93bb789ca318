import type { FirstSteps as Steps } from '@ouvrage/api/release';
import { useState } from 'react';
import { Link, useNavigate } from 'react-router';
import { address } from '../../data/addresses';
import { mayAct, usePerson, whyNot } from '../../data/person';
import { useProject } from '../../data/project';
import { Button } from '../../shared/ui/button';
import { OpenWorkspace } from '../open-workspace';

/** One thing to do on the way to the first released table. */
interface Step {
  readonly title: string;
  readonly says: string;
  readonly isDone: boolean;
  /** Where it is done; undefined where it is done here, or cannot be yet. */
  readonly to?: string;
  /** Why the person cannot do it. */
  readonly reason?: string | undefined;
}

/** What leads from an empty project to the first released table; it goes with the first release. */
export function FirstSteps({ steps }: { readonly steps: Steps }) {
  const person = usePerson();
  const { slug } = useProject();
  const navigate = useNavigate();
  const [opening, setOpening] = useState(false);
  const { workspace } = steps;
  const at = workspace ?? slug;
  const within = (to: string) => (workspace === null ? {} : { to });
  const all: readonly Step[] = [
    {
      title: 'Connect a database',
      says: 'Where your data are now: host, database, name and password. The password is sealed and stays out of the repository.',
      isDone: steps.connected,
      to: address.place(at, 'settings/connections'),
      reason: whyNot(person, 'administrator', 'add connections'),
    },
    {
      title: 'Open a workspace',
      says: 'A branch with schemas of its own, where nobody else sees what you try.',
      isDone: workspace !== null,
      reason: whyNot(person, 'editor', 'open workspaces'),
    },
    {
      title: 'Import tables of the database',
      says: 'Choose some; their columns, types and keys become landing tables of the project.',
      isDone: steps.broughtIn,
      ...within(address.place(at, 'sources')),
    },
    {
      title: 'Write a definition',
      says: 'Begin with a starter, or with a query of your own.',
      isDone: steps.defined,
      ...within(address.starter(at)),
    },
    {
      title: 'Run it',
      says: 'In the workspace, with all that it reads; its checks run with it.',
      isDone: steps.run,
      ...within(address.place(at, 'tables')),
    },
    {
      title: 'Release it',
      says: 'Commit, look at what changes, and release: production is built, and these steps go.',
      isDone: false,
      ...within(address.review(at)),
    },
  ];
  const next = all.find((s) => !s.isDone);
  return (
    <section aria-label="First steps" className="pt-3">
      <h2 className="caps border-b border-line pb-1">
        First steps <span className="font-mono">{all.filter((s) => s.isDone).length}</span> of{' '}
        <span className="font-mono">{all.length}</span>
      </h2>
      <ol>
        {all.map((step, i) => (
          <li
            key={step.title}
            aria-current={step === next ? 'step' : undefined}
            className={`flex items-start gap-3 border-b border-line border-l-3 px-3 py-2 ${step === next ? 'border-l-plan bg-wash' : 'border-l-transparent'}`}
          >
            <span className="w-5 shrink-0 font-mono text-soft">{i + 1}</span>
            <div className="min-w-0 flex-1">
              <p className={`font-medium ${step.isDone ? 'text-soft' : ''}`}>
                {step.title}
                {step.isDone && <span className="font-normal text-holds-text">, done</span>}
              </p>
              {!step.isDone && <p className="text-soft">{step.says}</p>}
              {step.reason !== undefined && !step.isDone && <p className="text-advisory-text">{step.reason}</p>}
            </div>
            {!step.isDone && step.reason === undefined && step.to !== undefined && (
              <Link
                aria-label={`${step === next ? 'Do this' : 'Go there'}: ${step.title}`}
                className="shrink-0 text-plan underline underline-offset-2"
                to={step.to}
              >
                {step === next ? 'Do this' : 'Go there'}
              </Link>
            )}
            {step.title === 'Open a workspace' && !step.isDone && mayAct(person, 'editor') && (
              <Button onClick={() => setOpening(true)}>Open a workspace …</Button>
            )}
          </li>
        ))}
      </ol>
      <OpenWorkspace
        open={opening}
        onClose={() => setOpening(false)}
        onOpened={(opened) => void navigate(address.place(opened, 'today'))}
      />
    </section>
  );
}
