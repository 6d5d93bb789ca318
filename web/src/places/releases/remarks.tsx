import type { ProblemBody } from '@ouvrage/api/problem';
import type { Remark, RemarkPlace } from '@ouvrage/api/review';
import { useState, type ReactNode } from 'react';
import { useForm } from 'react-hook-form';
import { Link } from 'react-router';
import { address } from '../../data/addresses';
import { useComparedNames } from '../../data/compared';
import { usePerson, whyNot } from '../../data/person';
import { useProject } from '../../data/project';
import {
  type PlaceAsked,
  useAnswerRemarkMutation,
  useMakeRemarkMutation,
  useResolveRemarkMutation,
} from '../../data/reviews';
import { isFilled } from '../../shared/filled';
import { moment, plural, when } from '../../shared/format';
import { Note } from '../../shared/note';
import { Button } from '../../shared/ui/button';
import { ProblemNote } from '../../shared/ui/problem-note';
import { SectionTitle } from '../../shared/ui/section-title';

const ROWS_WORDS = {
  different: 'changed rows',
  'only here': 'rows only here',
  'only there': 'rows only in production',
} as const;

/** Where a remark stands, in words. */
export function placeWords(place: RemarkPlace, line: number | null): string {
  switch (place.kind) {
    case 'whole':
      return 'the whole';
    case 'line':
      return line === null ? `${place.path}, a line that is gone: ${place.text.trim()}` : `${place.path}, line ${line}`;
    case 'column':
      return `${place.table}.${place.column}`;
    case 'rows':
      return `${place.table}, ${ROWS_WORDS[place.rows]}`;
  }
}

const addressOf = (slug: string, place: RemarkPlace): string | undefined =>
  place.kind === 'whole'
    ? undefined
    : place.kind === 'line'
      ? address.review(slug, place.path)
      : address.comparedRows(slug, place.table);

/** All remarks of a review: those that are open, each with where it stands, and a form for one on the whole. */
export function AllRemarks({ remarks }: { readonly remarks: readonly Remark[] }) {
  const { slug } = useProject();
  const open = remarks.filter((r) => r.resolved === null);
  const whole = remarks.filter((r) => r.place.kind === 'whole');
  const elsewhere = open.filter((r) => r.place.kind !== 'whole');
  return (
    <section aria-label="Remarks" className="flex flex-col gap-2">
      <SectionTitle aside={remarks.length > 0 ? `${open.length} of ${remarks.length} open` : ''}>Remarks</SectionTitle>
      {elsewhere.length > 0 && (
        <ul>
          {elsewhere.map((r) => (
            <li key={r.id} className="border-b border-line py-1.5">
              <Link className="break-words text-plan underline underline-offset-2" to={addressOf(slug, r.place)!}>
                {placeWords(r.place, r.line)}
              </Link>
              <span className="block truncate text-small text-soft">
                {r.person}: {r.text}
              </span>
            </li>
          ))}
        </ul>
      )}
      <Threads remarks={whole} />
      <RemarkForm label="Remark on the whole" place={() => ({ kind: 'whole' })} />
    </section>
  );
}

/** Remarks on the lines of a file, below it. @param line the line that was chosen in the file */
export function FileRemarks({
  path,
  remarks,
  line,
  onLine,
}: {
  readonly path: string;
  readonly remarks: readonly Remark[];
  readonly line: number | undefined;
  readonly onLine: (line: number | undefined) => void;
}) {
  const own = remarks.filter((r) => r.place.kind === 'line' && r.place.path === path);
  return (
    <Strip remarks={own}>
      <label className="flex items-center gap-2">
        On line
        <input
          type="number"
          min={1}
          value={line ?? ''}
          onChange={(e) => onLine(e.target.value === '' ? undefined : Number(e.target.value))}
          className="h-field w-20 rounded-edge border border-rule bg-raised px-2 text-ink"
        />
        <span className="text-small text-soft">or choose its number above</span>
      </label>
      <RemarkForm
        key={line}
        label={line === undefined ? 'Remark on a line' : `Remark on line ${line}`}
        place={() => (line === undefined ? undefined : { kind: 'line', path, line })}
      />
    </Strip>
  );
}

/** Remarks on a table's columns and kinds of rows, below them. */
export function RowRemarks({ table, remarks }: { readonly table: string; readonly remarks: readonly Remark[] }) {
  const { slug } = useProject();
  const columns = useComparedNames({ slug, table });
  const [on, setOn] = useState('rows different');
  const own = remarks.filter((r) => 'table' in r.place && r.place.table === table);
  const place = (): PlaceAsked => {
    const [kind, ...rest] = on.split(' ');
    const name = rest.join(' ');
    return kind === 'rows'
      ? { kind, table, rows: name as keyof typeof ROWS_WORDS }
      : { kind: 'column', table, column: name };
  };
  return (
    <Strip remarks={own}>
      <label className="flex items-center gap-2">
        On
        <select
          value={on}
          onChange={(e) => setOn(e.target.value)}
          className="h-field rounded-edge border border-rule bg-raised px-2 text-ink"
        >
          {Object.entries(ROWS_WORDS).map(([kind, words]) => (
            <option key={kind} value={`rows ${kind}`}>
              the {words}
            </option>
          ))}
          {columns.map((c) => (
            <option key={c} value={`column ${c}`}>
              {c}
            </option>
          ))}
        </select>
      </label>
      <RemarkForm key={on} label="Remark on the rows or a column" place={place} />
    </Strip>
  );
}

/** A strip below what is remarked on; its form is opened where it is wanted. */
function Strip({ remarks, children }: { readonly remarks: readonly Remark[]; readonly children: ReactNode }) {
  const open = remarks.filter((r) => r.resolved === null).length;
  const [isOpen, setOpen] = useState(open > 0);
  return (
    <section aria-label="Remarks here" className="shrink-0 border-t border-line bg-paper">
      <button
        type="button"
        aria-expanded={isOpen}
        onClick={() => setOpen(!isOpen)}
        className="flex w-full items-center gap-3 px-4 py-1.5 text-left hover:bg-sheet"
      >
        <span className="caps">Remarks here</span>
        <span className="text-small text-soft">
          {remarks.length === 0 ? 'none' : `${plural(remarks.length, 'remark')}, ${open} open`}
        </span>
        <span className="flex-1" />
        <span className="text-small text-plan">{isOpen ? 'Hide' : 'Show'}</span>
      </button>
      {isOpen && (
        <div
          className="flex max-h-72 flex-col gap-3 overflow-auto px-4 pb-3"
          tabIndex={0}
          aria-label="Remarks and a form for one"
        >
          <Threads remarks={remarks} />
          {children}
        </div>
      )}
    </section>
  );
}

function Threads({ remarks }: { readonly remarks: readonly Remark[] }) {
  return (
    <ul className="flex flex-col gap-2">
      {remarks.map((r) => (
        <Thread key={r.id} remark={r} />
      ))}
    </ul>
  );
}

function Thread({ remark }: { readonly remark: Remark }) {
  const { slug } = useProject();
  const reason = whyNot(usePerson(), 'editor', 'answer remarks');
  const [resolve, { error, isLoading }] = useResolveRemarkMutation();
  const [isAnswering, setAnswering] = useState(false);
  const { id, person, text, at, place, line, answers, resolved } = remark;
  return (
    <li className={`border-l-3 pl-3 ${resolved ? 'border-line text-soft' : 'border-plan'}`}>
      {place.kind !== 'whole' && <p className="text-small text-soft">{placeWords(place, line)}</p>}
      {[{ id, person, text, at }, ...answers].map((one) => (
        <div key={one.id} className="min-w-0">
          <span className="font-medium">{one.person}</span>{' '}
          <time dateTime={one.at} title={moment(one.at)} className="text-small text-soft">
            {when(one.at)}
          </time>
          <Note text={one.text} className="max-w-160" />
        </div>
      ))}
      {resolved && (
        <p className="text-small">
          Resolved by {resolved.person} {when(resolved.at)}.
        </p>
      )}
      {error && <ProblemNote problem={error as ProblemBody} />}
      {isAnswering ? (
        <AnswerForm id={id} onDone={() => setAnswering(false)} />
      ) : (
        <div className="flex gap-3">
          <Button tone="quiet" {...(reason ? { reason } : {})} onClick={() => setAnswering(true)}>
            Answer
          </Button>
          <Button
            tone="quiet"
            disabled={isLoading}
            {...(reason ? { reason } : {})}
            onClick={() => void resolve({ slug, id, resolved: resolved === null })}
          >
            {resolved ? 'Open again' : 'Resolve'}
          </Button>
        </div>
      )}
    </li>
  );
}

function AnswerForm({ id, onDone }: { readonly id: number; readonly onDone: () => void }) {
  const { slug } = useProject();
  const [answer, { error, isLoading }] = useAnswerRemarkMutation();
  return (
    <TextForm
      label="Answer"
      button="Answer"
      problem={error as ProblemBody | undefined}
      isBusy={isLoading}
      onText={(text) => answer({ slug, id, text }).unwrap().then(onDone)}
    />
  );
}

/** @param place where the remark will stand; undefined where that is not chosen yet */
function RemarkForm({ label, place }: { readonly label: string; readonly place: () => PlaceAsked | undefined }) {
  const { slug } = useProject();
  const reason = whyNot(usePerson(), 'editor', 'make remarks');
  const [make, { error, isLoading }] = useMakeRemarkMutation();
  const at = place();
  const missing = reason ?? (at === undefined ? 'Say which line first.' : undefined);
  return (
    <TextForm
      label={label}
      button="Add remark"
      problem={error as ProblemBody | undefined}
      isBusy={isLoading}
      {...(missing ? { reason: missing } : {})}
      onText={(text) => make({ slug, place: at!, text }).unwrap()}
    />
  );
}

/** A text that is sent; it is kept where that fails. */
function TextForm({
  label,
  button,
  problem,
  isBusy,
  reason,
  onText,
}: {
  readonly label: string;
  readonly button: string;
  readonly problem: ProblemBody | undefined;
  readonly isBusy: boolean;
  readonly reason?: string;
  readonly onText: (text: string) => Promise<unknown>;
}) {
  const { register, handleSubmit, reset, formState } = useForm({ defaultValues: { text: '' } });
  const { isDirty, isValid } = formState;
  const submit = ({ text }: { text: string }) =>
    reason === undefined
      ? onText(text.trim())
          .then(() => reset())
          .catch(() => undefined)
      : undefined;
  return (
    <form className="flex flex-col gap-2" onSubmit={(e) => void handleSubmit(submit)(e)}>
      <textarea
        aria-label={label}
        rows={2}
        maxLength={10_000}
        placeholder={label}
        className="w-full rounded-edge border border-rule bg-raised px-2 py-1.5 text-ink"
        {...register('text', { validate: isFilled })}
      />
      {problem && <ProblemNote problem={problem} />}
      {isDirty && (
        <Button className="self-start" type="submit" disabled={isBusy || !isValid} {...(reason ? { reason } : {})}>
          {button}
        </Button>
      )}
    </form>
  );
}
