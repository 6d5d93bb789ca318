import { useRef } from 'react';
import { Link } from 'react-router';
import { address } from '../../data/addresses';
import { useDeliveriesInfiniteQuery, useLookIntoDropMutation, useSendFileMutation } from '../../data/deliveries';
import { useProject } from '../../data/project';
import { usePerson, whyNot } from '../../data/person';
import type { SourceSystem } from '@ouvrage/api/source';
import { rows } from '../../shared/format';
import { Hatch } from '../../shared/marks';
import { useTell } from '../../shared/toasts';
import { Tag } from '../../shared/ui/tag';
import { Button } from '../../shared/ui/button';
import { Deliveries } from './deliveries';
import { Late } from './late';
import { TryNames } from './try-names';

/** Files that come into the drop folder: the tables that take them, and what became of the last ones. */
export function DropFolder({ system }: { system: SourceSystem }) {
  const { slug } = useProject();
  const person = usePerson();
  const { data } = useDeliveriesInfiniteQuery({});
  const folder = data?.pages[0]?.folder;
  const [send, { isLoading: sending }] = useSendFileMutation();
  const [look, { isLoading: looking }] = useLookIntoDropMutation();
  const picker = useRef<HTMLInputElement>(null);
  const tell = useTell();
  const reason = whyNot(person, 'releaser', 'deliver files');
  const take = () => look().unwrap().catch(tell.problem);
  const sendAll = async (files: readonly File[]) => {
    try {
      for (const file of files) await send(file).unwrap();
      await look().unwrap();
    } catch (problem) {
      tell.problem(problem);
    }
  };
  return (
    <section aria-label={system.server} className="border border-rule">
      <header className="flex items-center gap-4 border-b border-rule bg-paper px-4 py-2.5">
        <div className="min-w-0">
          <h1 className="sheet-title">{system.server}</h1>
          <p className="truncate font-mono text-small text-soft">
            {folder ?? 'the drop folder'} ·{' '}
            <Link to={address.file(slug, system.path)} className="text-plan underline underline-offset-2">
              {system.path}
            </Link>
          </p>
        </div>
        <span className="flex-1" />
        <input
          ref={picker}
          type="file"
          multiple
          aria-label="Files to deliver"
          className="sr-only"
          tabIndex={-1}
          onChange={(e) => {
            void sendAll([...(e.target.files ?? [])]);
            e.target.value = '';
          }}
        />
        <Button disabled={sending} {...(reason ? { reason } : {})} onClick={() => picker.current?.click()}>
          Deliver a file
        </Button>
        <Button tone="act" disabled={looking} {...(reason ? { reason } : {})} onClick={() => void take()}>
          Look now
        </Button>
      </header>
      <ul aria-label="Tables loaded from files" className="border-b border-rule">
        {system.tables.map((t) => (
          <li key={t.table} className="flex items-center gap-2 border-b border-line px-3 py-1.5 last:border-b-0">
            <Hatch position={0} />
            <Link to={address.table(slug, t.table, 'rows')} className="font-medium hover:text-plan hover:underline">
              {t.table}
            </Link>
            <span className="font-mono text-small text-soft">{t.pattern}</span>
            {!t.sameAsProduction && <Tag tone="advisory">differs from production: loads files once released</Tag>}
            <Late table={t.table} lateness={t.lateness} />
            <span className="flex-1" />
            <span className="font-mono text-small">{rows(t.rows)}</span>
          </li>
        ))}
      </ul>
      <TryNames delivered={data?.pages[0]?.files ?? []} />
      <Deliveries reason={reason} />
    </section>
  );
}
