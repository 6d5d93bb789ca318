import { useRef } from 'react';
import { Link } from 'react-router';
import { address } from '../../app/addresses';
import { useDeliveriesQuery, useLookIntoDropMutation, useSendFileMutation } from '../../app/api';
import { mayAct, usePerson, useProject } from '../../app/project';
import type { DeliveryEntry, ProblemBody, SourceSystem } from '../../app/types';
import { ago, count, duration } from '../../shared/format';
import { Hatch, VerdictMark } from '../../shared/marks';
import { useTell } from '../../shared/toasts';
import { Button, ProblemNote, Tag } from '../../shared/ui';

const SAID: Readonly<Record<DeliveryEntry['state'], string>> = {
  loaded: 'loaded',
  empty: 'empty: nothing changed',
  repeated: 'the same as before: not loaded again',
  failed: 'failed',
  unknown: 'failed: no table takes it',
};

/** Files that come into the drop folder: the tables that take them, and what became of the last ones. */
export function DropFolder({ system }: { system: SourceSystem }) {
  const { slug } = useProject();
  const person = usePerson();
  const { data, error, refetch } = useDeliveriesQuery(undefined, { pollingInterval: 10_000, skipPollingIfUnfocused: true });
  const [send, { isLoading: sending }] = useSendFileMutation();
  const [look, { isLoading: looking }] = useLookIntoDropMutation();
  const picker = useRef<HTMLInputElement>(null);
  const tell = useTell();
  const reason = mayAct(person, 'releaser') ? undefined : `Deliveries land in production: that needs the role releaser, yours is ${person.role}.`;
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
          <p className="truncate font-mono text-[12px] text-soft">
            {data?.folder ?? 'the drop folder'} ·{' '}
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
      <ul aria-label="Tables that take files" className="border-b border-rule">
        {system.tables.map((t) => (
          <li key={t.table} className="flex items-center gap-2 border-b border-line px-3 py-1.5 last:border-b-0">
            <Hatch position={0} />
            <Link to={address.table(slug, t.table, 'rows')} className="font-medium hover:text-plan hover:underline">
              {t.table}
            </Link>
            <span className="font-mono text-[12px] text-soft">{t.pattern}</span>
            {!t.sameAsProduction && <Tag tone="advisory">differs from production: takes files once it is released</Tag>}
            {t.lateness?.late && <span className="text-advisory-text">late</span>}
            <span className="flex-1" />
            <span className="font-mono text-[12px]">{count(t.rows)} rows</span>
          </li>
        ))}
      </ul>
      {error && <ProblemNote problem={error as ProblemBody} again={() => void refetch()} />}
      <table className="w-full text-left">
        <thead>
          <tr className="border-b border-rule text-[12px]">
            {['delivered file', 'what became of it', 'rows', 'set aside', 'took', 'when'].map((h) => (
              <th key={h} className={`px-3 py-1 font-medium ${['rows', 'set aside', 'took'].includes(h) ? 'text-right' : ''}`}>
                {h}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {data?.files.slice(0, 12).map((f) => (
            <tr key={f.id} className="border-b border-line align-baseline">
              <td className="px-3 py-1 font-mono text-[12px]">{f.file}</td>
              <td className="px-3">
                <span className="inline-flex items-baseline gap-1.5">
                  <VerdictMark
                    verdict={f.state === 'loaded' ? 'holds' : f.state === 'empty' || f.state === 'repeated' ? 'not run' : 'broken'}
                    size={10}
                    label={f.state}
                  />
                  {SAID[f.state]}
                </span>
                {f.reason && f.state !== 'repeated' && <span className="block text-[12px] text-broken">{f.reason}</span>}
              </td>
              <td className="px-3 text-right font-mono text-[12px]">{count(f.rows)}</td>
              <td className="px-3 text-right font-mono text-[12px]">{count(f.rejects)}</td>
              <td className="px-3 text-right font-mono text-[12px]">{duration(f.milliseconds)}</td>
              <td className="px-3 whitespace-nowrap">{ago(f.at)}</td>
            </tr>
          ))}
          {data?.files.length === 0 && (
            <tr>
              <td colSpan={6} className="px-3 py-2 text-soft">
                No file has come yet. Put one into the folder, under a name that a pattern takes.
              </td>
            </tr>
          )}
        </tbody>
      </table>
      {data && data.files.length > 12 && <p className="px-3 py-1 text-[12px] text-soft">and {data.files.length - 12} earlier ones</p>}
    </section>
  );
}
