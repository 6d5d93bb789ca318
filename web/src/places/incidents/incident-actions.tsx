import type { IncidentDetail, IncidentEntry } from '@ouvrage/api/incident';
import type { ProblemBody } from '@ouvrage/api/problem';
import { useState } from 'react';
import { useForm } from 'react-hook-form';
import { useNavigate } from 'react-router';
import { address } from '../../data/addresses';
import {
  useCloseIncidentMutation,
  useMergeIncidentMutation,
  useRemarkMutation,
  useReopenIncidentMutation,
  useSplitIncidentMutation,
} from '../../data/incidents';
import { PRODUCTION, usePerson, whyNot } from '../../data/person';
import { useProject } from '../../data/project';
import { isFilled } from '../../shared/filled';
import { useTell } from '../../shared/toasts';
import { Button } from '../../shared/ui/button';
import { Modal } from '../../shared/ui/modal';
import { ProblemNote } from '../../shared/ui/problem-note';
import { RunChecks } from '../../shared/run-checks';

const area = 'w-full rounded-edge border border-rule bg-raised px-2 py-1.5 text-ink';
type Asking = 'close' | 'reopen' | 'merge' | 'split';

/** A remark, the checks run again, and what ends, joins or parts incidents. */
export function IncidentActions({ incident, others }: { incident: IncidentDetail; others: readonly IncidentEntry[] }) {
  const person = usePerson();
  const [asking, setAsking] = useState<Asking>();
  const reason = whyNot(person, 'editor', 'change incidents');
  const refused = reason ? { reason } : {};
  const checks = incident.subjects.flatMap((s) => (s.kind === 'check' ? [s.subject] : []));
  const isClosed = incident.state === 'closed';
  const mergeable = others.filter((o) => o.state !== 'closed' && o.id !== incident.id);
  const close = () => setAsking(undefined);
  return (
    <div className="mt-3 flex max-w-165 flex-col gap-2.5">
      {reason === undefined && <RemarkForm id={incident.id} />}
      <div className="flex flex-wrap items-center gap-2">
        {checks.length > 0 && (
          <RunChecks checks={checks} environment={PRODUCTION}>
            {checks.length === 1 ? 'Run the check now' : 'Run the checks now'}
          </RunChecks>
        )}
        {isClosed ? (
          <Button {...refused} onClick={() => setAsking('reopen')}>
            Reopen
          </Button>
        ) : (
          <>
            <Button tone="act" {...refused} onClick={() => setAsking('close')}>
              Close with what was learned
            </Button>
            {mergeable.length > 0 && (
              <Button {...refused} onClick={() => setAsking('merge')}>
                Merge …
              </Button>
            )}
            {incident.subjects.length > 1 && (
              <Button {...refused} onClick={() => setAsking('split')}>
                Split …
              </Button>
            )}
          </>
        )}
      </div>
      {asking === 'close' && <CloseDialog incident={incident} onClose={close} />}
      {asking === 'reopen' && <ReopenDialog id={incident.id} onClose={close} />}
      {asking === 'merge' && <MergeDialog incident={incident} others={mergeable} onClose={close} />}
      {asking === 'split' && <SplitDialog incident={incident} onClose={close} />}
    </div>
  );
}

function RemarkForm({ id }: { id: number }) {
  const { register, handleSubmit, reset, formState } = useForm({ defaultValues: { text: '' } });
  // Both are read at once: only what is read is followed.
  const { isDirty, isValid } = formState;
  const [remark, { error, isLoading }] = useRemarkMutation();
  const submit = ({ text }: { text: string }) =>
    remark({ id, text: text.trim() })
      .unwrap()
      .then(() => reset())
      .catch(() => undefined);
  return (
    <form className="flex flex-col gap-2" onSubmit={(e) => void handleSubmit(submit)(e)}>
      <textarea
        aria-label="Remark"
        rows={2}
        maxLength={10_000}
        placeholder="Add a remark. [core.fact_dues] links a table."
        className={area}
        {...register('text', { validate: isFilled })}
      />
      {error && <ProblemNote problem={error as ProblemBody} />}
      {isDirty && (
        <Button className="self-start" type="submit" disabled={isLoading || !isValid}>
          Add remark
        </Button>
      )}
    </form>
  );
}

/** Asks what was learned; and why, where something does not hold. */
function CloseDialog({ incident, onClose }: { incident: IncidentDetail; onClose: () => void }) {
  const { register, handleSubmit, formState } = useForm({ defaultValues: { learned: '', though: '' } });
  const [close, { error, isLoading }] = useCloseIncidentMutation();
  const failing = incident.now.filter((n) => n.verdict !== 'holds');
  const submit = ({ learned, though }: { learned: string; though: string }) =>
    close({ id: incident.id, learned: learned.trim(), ...(though.trim() ? { though: though.trim() } : {}) })
      .unwrap()
      .then(onClose)
      .catch(() => undefined);
  return (
    <Modal title={`Close incident ${incident.id}`} open onClose={onClose}>
      <form className="flex flex-col gap-3" onSubmit={(e) => void handleSubmit(submit)(e)}>
        <label className="flex flex-col gap-1">
          <span className="caps">What was learned</span>
          <textarea rows={4} maxLength={10_000} className={area} {...register('learned', { validate: isFilled })} />
        </label>
        {failing.length > 0 && (
          <label className="flex flex-col gap-1">
            <span className="caps">Why close it though it does not hold</span>
            <textarea rows={2} maxLength={10_000} className={area} {...register('though', { validate: isFilled })} />
          </label>
        )}
        {error && <ProblemNote problem={error as ProblemBody} />}
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Cancel</Button>
          <Button tone="act" type="submit" disabled={isLoading || !formState.isValid}>
            Close incident
          </Button>
        </div>
      </form>
    </Modal>
  );
}

function ReopenDialog({ id, onClose }: { id: number; onClose: () => void }) {
  const { register, handleSubmit, formState } = useForm({ defaultValues: { text: '' } });
  const [reopen, { error, isLoading }] = useReopenIncidentMutation();
  const submit = ({ text }: { text: string }) =>
    reopen({ id, text: text.trim() })
      .unwrap()
      .then(onClose)
      .catch(() => undefined);
  return (
    <Modal title={`Reopen incident ${id}`} open onClose={onClose}>
      <form className="flex flex-col gap-3" onSubmit={(e) => void handleSubmit(submit)(e)}>
        <label className="flex flex-col gap-1">
          <span className="caps">Why</span>
          <textarea rows={3} maxLength={10_000} className={area} {...register('text', { validate: isFilled })} />
        </label>
        {error && <ProblemNote problem={error as ProblemBody} />}
        <Button tone="act" className="self-end" type="submit" disabled={isLoading || !formState.isValid}>
          Reopen
        </Button>
      </form>
    </Modal>
  );
}

function MergeDialog({
  incident,
  others,
  onClose,
}: {
  incident: IncidentDetail;
  others: readonly IncidentEntry[];
  onClose: () => void;
}) {
  const { slug } = useProject();
  const navigate = useNavigate();
  const tell = useTell();
  const [into, setInto] = useState(incident.related[0]?.id ?? others[0]!.id);
  const [merge, { isLoading }] = useMergeIncidentMutation();
  const confirm = () =>
    merge({ id: incident.id, into })
      .unwrap()
      .then(() => navigate(address.incident(slug, into)))
      .catch(tell.problem);
  return (
    <Modal title={`Merge incident ${incident.id}`} open onClose={onClose}>
      <div className="flex flex-col gap-3">
        <p>What it is about goes on in the other incident; this one is closed and keeps what happened.</p>
        <label className="flex flex-col gap-1">
          <span className="caps">Into</span>
          <select
            className="h-control rounded-edge border border-rule bg-raised pl-2"
            value={into}
            onChange={(e) => setInto(Number(e.target.value))}
          >
            {others.map((o) => (
              <option key={o.id} value={o.id}>
                {o.id}. {o.title}
              </option>
            ))}
          </select>
        </label>
        <Button tone="act" className="self-end" disabled={isLoading} onClick={() => void confirm()}>
          Merge
        </Button>
      </div>
    </Modal>
  );
}

function SplitDialog({ incident, onClose }: { incident: IncidentDetail; onClose: () => void }) {
  const { slug } = useProject();
  const navigate = useNavigate();
  const tell = useTell();
  const [split, { isLoading }] = useSplitIncidentMutation();
  return (
    <Modal title={`Split incident ${incident.id}`} open onClose={onClose}>
      <p className="mb-2">Choose what becomes an incident of its own.</p>
      <ul className="flex flex-col gap-2">
        {incident.subjects.map(({ kind, subject }) => (
          <li key={kind + subject} className="flex items-center justify-between gap-3">
            <span>
              {subject} <span className="text-soft">{kind}</span>
            </span>
            <Button
              disabled={isLoading}
              onClick={() =>
                void split({ id: incident.id, kind, subject })
                  .unwrap()
                  .then((made) => navigate(address.incident(slug, made.id)))
                  .catch(tell.problem)
              }
            >
              Split off
            </Button>
          </li>
        ))}
      </ul>
    </Modal>
  );
}
