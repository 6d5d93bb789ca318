import type { IncidentDetail, IncidentEntry, PersonName } from '@ouvrage/api/incident';
import type { ProblemBody } from '@ouvrage/api/problem';
import { SEVERITIES, type Severity } from '@ouvrage/core/language';
import { useState, type ReactNode } from 'react';
import { Link } from 'react-router';
import { address } from '../../data/addresses';
import { useChangeIncidentMutation, useIncidentQuery, useTakeIncidentMutation } from '../../data/incidents';
import { usePerson, whyNot } from '../../data/person';
import { useProject } from '../../data/project';
import { moment, plural } from '../../shared/format';
import { useTell } from '../../shared/toasts';
import { Button } from '../../shared/ui/button';
import { inputClass } from '../../shared/ui/input';
import { Loading } from '../../shared/ui/loading';
import { ProblemNote } from '../../shared/ui/problem-note';
import { SectionTitle } from '../../shared/ui/section-title';
import { IncidentActions } from './incident-actions';
import { IncidentAside } from './incident-aside';
import { Timeline } from './timeline';

/** One incident: what it is, what happened, what may have caused it; and what can be done about it. */
export function IncidentSheet({
  id,
  people,
  others,
}: {
  id: number;
  people: readonly PersonName[];
  others: readonly IncidentEntry[];
}) {
  const { data, error, isLoading, refetch } = useIncidentQuery(id, {
    pollingInterval: 10_000,
    skipPollingIfUnfocused: true,
  });
  if (isLoading) return <Loading what="Reading the incident" />;
  if (error || !data) return <ProblemNote problem={error as ProblemBody} again={() => void refetch()} />;
  return (
    <>
      <section aria-label="Incident" className="min-w-0 flex-1 overflow-auto bg-sheet px-5.5 py-4" tabIndex={0}>
        <p className="text-soft">
          Incident {data.id}, opened by {data.openedBy ?? 'a rule'} {moment(data.openedAt)}
          {data.reopened > 0 && `, opened again ${plural(data.reopened, 'time')}`}
        </p>
        <Heading incident={data} />
        <TitleBlock incident={data} people={people} />
        <Description incident={data} />
        {data.state === 'closed' && (
          <div className="mt-4 border-l-3 border-holds pl-3">
            <SectionTitle>What was learned</SectionTitle>
            <p className="whitespace-pre-wrap">{data.learned}</p>
            {data.closedThough && <p className="text-soft">Closed though it does not hold: {data.closedThough}</p>}
          </div>
        )}
        <div className="mt-4">
          <SectionTitle>What happened</SectionTitle>
          <Timeline events={data.events} />
        </div>
        <IncidentActions incident={data} others={others} />
      </section>
      <IncidentAside incident={data} />
    </>
  );
}

/** The title, which can be changed in its place. */
function Heading({ incident }: { incident: IncidentDetail }) {
  const person = usePerson();
  const [change] = useChangeIncidentMutation();
  const [text, setText] = useState<string>();
  const tell = useTell();
  if (text === undefined)
    return (
      <div className="flex items-baseline gap-2">
        <h1 className="font-cond text-head leading-tight font-semibold">{incident.title}</h1>
        {whyNot(person, 'editor', 'rename incidents') === undefined && (
          <Button tone="quiet" onClick={() => setText(incident.title)}>
            Rename
          </Button>
        )}
      </div>
    );
  const save = () =>
    change({ id: incident.id, title: text.trim() })
      .unwrap()
      .then(() => setText(undefined))
      .catch(tell.problem);
  return (
    <form
      className="flex gap-2 py-1"
      onSubmit={(e) => {
        e.preventDefault();
        void save();
      }}
    >
      <input
        aria-label="Title"
        className={inputClass}
        maxLength={300}
        value={text}
        autoFocus
        onChange={(e) => setText(e.target.value)}
        onKeyDown={(e) => e.key === 'Escape' && setText(undefined)}
      />
      <Button type="submit" tone="act" disabled={!text.trim()}>
        Save
      </Button>
      <Button onClick={() => setText(undefined)}>Cancel</Button>
    </form>
  );
}

/** State, severity, lead, since when, and how much it affects. */
function TitleBlock({ incident, people }: { incident: IncidentDetail; people: readonly PersonName[] }) {
  const person = usePerson();
  const [change] = useChangeIncidentMutation();
  const [take, { isLoading }] = useTakeIncidentMutation();
  const tell = useTell();
  const isClosed = incident.state === 'closed';
  const mayNot = whyNot(person, 'editor', 'change incidents') !== undefined;
  const owners = new Set(incident.affected.flatMap((a) => a.owner ?? []));
  const set = (what: { severity?: Severity; lead?: string | null }) =>
    void change({ id: incident.id, ...what })
      .unwrap()
      .catch(tell.problem);
  const select = 'h-control-small w-full bg-transparent';
  return (
    <>
      <dl className="mt-2.5 flex w-fit flex-wrap border border-line bg-raised">
        <Field name="State">{incident.state}</Field>
        <Field name="Severity">
          {mayNot ? (
            incident.severity
          ) : (
            <select
              aria-label="Severity"
              className={select}
              value={incident.severity}
              onChange={(e) => set({ severity: e.target.value as Severity })}
            >
              {SEVERITIES.map((s) => (
                <option key={s}>{s}</option>
              ))}
            </select>
          )}
        </Field>
        <Field name="Lead">
          {mayNot || isClosed ? (
            (incident.lead?.displayName ?? 'nobody')
          ) : (
            <select
              aria-label="Lead"
              className={select}
              value={incident.lead?.name ?? ''}
              onChange={(e) => set({ lead: e.target.value || null })}
            >
              <option value="">nobody</option>
              {people.map((p) => (
                <option key={p.name} value={p.name}>
                  {p.displayName}
                </option>
              ))}
            </select>
          )}
        </Field>
        <Field name="Since">
          <span className="font-mono text-small">{moment(incident.since)}</span>
        </Field>
        <Field name="Affects">
          {plural(incident.affected.length, 'table')}, {plural(owners.size, 'owner')}
        </Field>
      </dl>
      {!isClosed && incident.lead?.name !== person.name && !mayNot && (
        <div className="mt-2.5">
          <Button disabled={isLoading} onClick={() => void take({ id: incident.id }).unwrap().catch(tell.problem)}>
            Take it in hand
          </Button>
        </div>
      )}
    </>
  );
}

const Field = ({ name, children }: { name: string; children: ReactNode }) => (
  <div className="min-w-22 border-r border-line px-2.5 py-1.5">
    <dt className="caps">{name}</dt>
    <dd>{children}</dd>
  </div>
);

/** What it is about, and what a person said of it. */
function Description({ incident }: { incident: IncidentDetail }) {
  const { slug } = useProject();
  return (
    <>
      {incident.description && <p className="mt-3 max-w-160 whitespace-pre-wrap">{incident.description}</p>}
      {incident.subjects.length > 1 && (
        <p className="mt-2 text-soft">
          About{' '}
          {incident.subjects.map((s, i) => (
            <span key={s.kind + s.subject}>
              {i > 0 && ', '}
              <Link
                className="text-plan underline underline-offset-2"
                to={s.kind === 'check' ? address.check(slug, s.subject) : address.table(slug, s.table)}
              >
                {s.subject}
              </Link>
            </span>
          ))}
        </p>
      )}
    </>
  );
}
