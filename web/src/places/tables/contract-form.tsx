import { rulesOf, words, choicesIn, optionsFor, SHOWN_WHEN } from './contract-options';
import type { ContractColumn, ContractEdit, ContractView } from '@ouvrage/core/assist';
import {
  choicesOf,
  COLUMN_OPTIONS,
  COLUMN_ROLES,
  DEFAULT_POLICY,
  LOAD_POLICIES,
  POLICIES,
  roleFits,
  TABLE_OPTIONS,
} from '@ouvrage/core/language';
import { useEffect, useState, type ReactNode } from 'react';
import { usePreviewMutation } from '../../data/rows';
import { useProject } from '../../data/project';
import type { ProblemBody } from '@ouvrage/api/problem';
import { useTell } from '../../shared/toasts';
import { inputClass } from '../../shared/ui/input';
import { SectionTitle } from '../../shared/ui/section-title';
import { Tag } from '../../shared/ui/tag';
import { Button } from '../../shared/ui/button';
import { readerProblem } from '../../worker/channel';
import { projectWorker } from '../../worker/client';
import type { FileText } from './use-file-text';

type Change = (...edits: ContractEdit[]) => void;

/** The contract as a form over the text in the editor: each follows the other. */
export function ContractForm({ path, file, view }: { path: string; file: FileText; view: ContractView }) {
  const tell = useTell();
  const change: Change = (...edits) =>
    void projectWorker.ask<'contract'>({ kind: 'contract', path, text: file.text, edits }).then(
      (answer) => {
        if ('text' in answer) file.setText(answer.text);
        else tell.problem({ title: 'The contract was not changed', detail: answer.problem } as ProblemBody);
      },
      (error: Error) => tell.problem(readerProblem(error)),
    );
  if (file.diagnostics.some((d) => d.code === 'syntax'))
    return <p className="p-3.5 text-soft">Fix the syntax error to continue in the form.</p>;
  return (
    <div className="flex flex-col gap-4 p-3.5">
      <AgainstQuery path={path} file={file} view={view} change={change} />
      {view.declared && (
        <>
          <TableFields view={view} change={change} />
          <section className="flex flex-col gap-1">
            <SectionTitle aside={String(view.columns.length)}>Columns</SectionTitle>
            {view.columns.map((c) => (
              <ColumnFields key={c.name} column={c} view={view} change={change} />
            ))}
            <NewColumn change={change} />
          </section>
          <TableConstraints view={view} change={change} />
        </>
      )}
    </div>
  );
}

/** What differs between contract and query, with one action to take the query's side. */
function AgainstQuery({
  path,
  file,
  view,
  change,
}: {
  path: string;
  file: FileText;
  view: ContractView;
  change: Change;
}) {
  const { slug } = useProject();
  const [preview, { isLoading }] = usePreviewMutation();
  const tell = useTell();
  const { missing, extra, types } = view.differences;
  /** Types that only the database knows are asked of it. */
  const take = async (
    columns: readonly { readonly name: string; readonly type?: string }[],
  ): Promise<{ name: string; type: string }[] | undefined> => {
    if (columns.every((c) => c.type !== undefined)) return columns.map((c) => ({ name: c.name, type: c.type! }));
    try {
      const rows = await preview({ slug, path, text: file.text, limit: 1 }).unwrap();
      return columns.map((c) => ({
        name: c.name,
        type: c.type ?? rows.columns.find((r) => r.name === c.name)?.type ?? 'text',
      }));
    } catch (error) {
      tell.problem(error as ProblemBody);
      return undefined;
    }
  };
  if (!view.declared)
    return (
      <section className="flex flex-col items-start gap-2">
        <p className="text-soft">
          This definition has no contract: its columns are those of its query, and nothing is said of them.
        </p>
        <Button
          tone="act"
          disabled={isLoading || missing.length === 0}
          onClick={() => void take(missing).then((columns) => columns && change({ kind: 'write', columns }))}
        >
          Contract from the query
        </Button>
      </section>
    );
  if (missing.length + extra.length + types.length === 0)
    return <p className="text-holds-text">Contract and query match.</p>;
  return (
    <section
      aria-label="Contract against query"
      className="flex flex-col gap-1.5 border-l-3 border-advisory bg-raised px-2.5 py-2"
    >
      {missing.length > 0 && <p>The query also returns {missing.map((c) => c.name).join(', ')}.</p>}
      {extra.length > 0 && <p>The query does not return {extra.join(', ')}.</p>}
      {types.map((t) => (
        <p key={t.name}>
          {t.name} is <span className="font-mono text-small">{t.ofQuery}</span> in the query,{' '}
          <span className="font-mono text-small">{t.declared}</span> here.
        </p>
      ))}
      <Button
        disabled={isLoading}
        className="self-start"
        onClick={() =>
          void take(missing).then(
            (columns) =>
              columns &&
              change(
                ...columns.map((c): ContractEdit => ({ kind: 'add column', ...c })),
                ...extra.map((column): ContractEdit => ({ kind: 'drop column', column })),
                ...types.map((t): ContractEdit => ({ kind: 'type', column: t.name, type: t.ofQuery })),
              ),
          )
        }
      >
        Update contract from query
      </Button>
    </section>
  );
}

function TableFields({ view, change }: { view: ContractView; change: Change }) {
  const set = optionsFor(view).filter((o) => view.options[o] !== undefined);
  const unset = optionsFor(view).filter((o) => view.options[o] === undefined);
  const [added, setAdded] = useState<string>();
  const shown = added !== undefined && !set.includes(added) ? [...set, added] : set;
  return (
    <section className="flex flex-col gap-1.5">
      <SectionTitle>Table</SectionTitle>
      <Row label="load">
        <select
          aria-label="load"
          value={view.policy}
          onChange={(e) =>
            change({
              kind: 'table option',
              option: 'load',
              value: e.target.value === DEFAULT_POLICY ? '' : e.target.value,
            })
          }
          className={inputClass}
        >
          {LOAD_POLICIES.map((p) => (
            <option key={p}>{p}</option>
          ))}
        </select>
      </Row>
      <p className="text-small text-soft">{POLICIES[view.policy].help}</p>
      {shown.map((option) => (
        <Row key={option} label={words(option)} help={rulesOf(TABLE_OPTIONS, option)?.help}>
          <Value
            label={words(option)}
            value={view.options[option] ?? ''}
            choices={choicesIn(view.policy, option)}
            onSet={(value) => change({ kind: 'table option', option, value })}
          />
        </Row>
      ))}
      <Row label="more">
        <select
          aria-label="Another option of the table"
          value=""
          onChange={(e) => setAdded(e.target.value)}
          className={inputClass}
        >
          <option value="">another option …</option>
          {unset.map((o) => (
            <option key={o} value={o}>
              {words(o)}
            </option>
          ))}
        </select>
      </Row>
      <Row label="comment">
        <Value
          label="Comment of the table"
          value={view.comment ?? ''}
          long
          onSet={(text) => change({ kind: 'comment', text })}
        />
      </Row>
    </section>
  );
}

function ColumnFields({ column, view, change }: { column: ContractColumn; view: ContractView; change: Change }) {
  const [open, setOpen] = useState(false);
  const { name, options } = column;
  const own = view.constraints.filter((c) => c.columns.length === 1 && c.columns[0] === name && c.kind !== 'not null');
  const isKey = view.constraints.some((c) => c.kind === 'primary key' && c.columns.includes(name));
  const option = (key: string, value: string) => change({ kind: 'column option', column: name, option: key, value });
  const roles = COLUMN_ROLES.filter((r) => roleFits(r, view.policy));
  return (
    <div className={`border-b border-line ${open ? 'border-l-3 border-l-plan bg-raised' : ''}`}>
      <button
        type="button"
        aria-expanded={open}
        onClick={() => setOpen(!open)}
        className="flex w-full items-center gap-2 px-1.5 py-line text-left hover:bg-raised"
      >
        <span className="min-w-0 flex-1 truncate font-medium">{name}</span>
        <span className="font-mono text-small text-soft">{column.type}</span>
        {isKey ? (
          <Tag>key</Tag>
        ) : options['role'] ? (
          <Tag>{options['role']}</Tag>
        ) : column.notNull ? (
          <Tag>not null</Tag>
        ) : null}
      </button>
      {open && (
        <div className="flex flex-col gap-1.5 px-2 pb-2.5">
          <Row label="type">
            <Value
              label={`Type of ${name}`}
              value={column.type}
              needed
              onSet={(type) => change({ kind: 'type', column: name, type })}
            />
          </Row>
          <Row label="role" help={COLUMN_OPTIONS.role.help}>
            <Value
              label={`Role of ${name}`}
              value={options['role'] ?? ''}
              choices={roles}
              onSet={(value) => option('role', value)}
            />
          </Row>
          {(Object.keys(SHOWN_WHEN) as (keyof typeof SHOWN_WHEN)[])
            .filter((key) => options[key] !== undefined || SHOWN_WHEN[key](column, view))
            .map((key) => (
              <Row key={key} label={words(key)} help={COLUMN_OPTIONS[key].help}>
                <Value
                  label={`${words(key)} of ${name}`}
                  value={options[key] ?? ''}
                  choices={choicesOf(COLUMN_OPTIONS[key])}
                  onSet={(value) => option(key, value)}
                />
              </Row>
            ))}
          <Row label="comment">
            <Value
              label={`Comment of ${name}`}
              value={column.comment ?? ''}
              long
              onSet={(text) => change({ kind: 'comment', column: name, text })}
            />
          </Row>
          <label className="flex items-center gap-2">
            <input
              type="checkbox"
              checked={column.notNull}
              disabled={isKey}
              onChange={(e) => change({ kind: 'not null', column: name, on: e.target.checked })}
            />
            never null
          </label>
          <Constraints found={own} onDrop={(c) => change({ kind: 'drop constraint', name: c })} />
          <NewConstraint
            label={`New check of ${name}`}
            example={`check (${name} > 0)`}
            onAdd={(text) => change({ kind: 'add constraint', column: name, text })}
          />
          <Button tone="quiet" className="self-start" onClick={() => change({ kind: 'drop column', column: name })}>
            Remove {name}
          </Button>
        </div>
      )}
    </div>
  );
}

function TableConstraints({ view, change }: { view: ContractView; change: Change }) {
  const found = view.constraints.filter((c) => c.columns.length !== 1);
  return (
    <section className="flex flex-col gap-1.5">
      <SectionTitle>Checks over several columns</SectionTitle>
      <Constraints found={found} onDrop={(name) => change({ kind: 'drop constraint', name })} />
      <NewConstraint
        label="New check of the table"
        example="unique (a, b)"
        onAdd={(text) => change({ kind: 'add constraint', text })}
      />
    </section>
  );
}

function Constraints({ found, onDrop }: { found: ContractView['constraints']; onDrop: (name: string) => void }) {
  return (
    <>
      {found.map((c) => (
        <p key={c.name} className="flex items-baseline gap-2">
          <span className="min-w-0 flex-1 font-mono text-small break-words">{c.text}</span>
          <Button tone="quiet" aria-label={`Remove ${c.name}`} onClick={() => onDrop(c.name)}>
            remove
          </Button>
        </p>
      ))}
    </>
  );
}

function NewConstraint({ label, example, onAdd }: { label: string; example: string; onAdd: (text: string) => void }) {
  const [text, setText] = useState('');
  const add = () => {
    if (text.trim() === '') return;
    onAdd(text.trim());
    setText('');
  };
  return (
    <input
      aria-label={label}
      placeholder={`${example}, then Enter`}
      value={text}
      onChange={(e) => setText(e.target.value)}
      onKeyDown={(e) => e.key === 'Enter' && add()}
      className={`${inputClass} font-mono text-small`}
    />
  );
}

function NewColumn({ change }: { change: Change }) {
  const [name, setName] = useState('');
  const [type, setType] = useState('text');
  const add = () => {
    if (name.trim() === '' || type.trim() === '') return;
    change({ kind: 'add column', name: name.trim(), type: type.trim() });
    setName('');
  };
  const onKeyDown = (e: React.KeyboardEvent) => e.key === 'Enter' && add();
  return (
    <div className="flex gap-1.5 pt-1.5">
      <input
        aria-label="Name of a new column"
        placeholder="another column"
        value={name}
        onChange={(e) => setName(e.target.value)}
        onKeyDown={onKeyDown}
        className={inputClass}
      />
      <input
        aria-label="Type of a new column"
        value={type}
        onChange={(e) => setType(e.target.value)}
        onKeyDown={onKeyDown}
        className={`${inputClass} w-32! font-mono text-small`}
      />
      <Button onClick={add}>Add</Button>
    </div>
  );
}

function Row({ label, help, children }: { label: string; help?: string | undefined; children: ReactNode }) {
  return (
    <div className="grid grid-cols-[84px_minmax(0,1fr)] items-center gap-2">
      <span className="truncate text-small text-soft" title={help ?? label}>
        {label}
      </span>
      {children}
    </div>
  );
}

/** A value that is set when it is chosen, or when Enter is pressed or the field is left. */
function Value({
  label,
  value,
  choices,
  long = false,
  needed = false,
  onSet,
}: {
  label: string;
  value: string;
  choices?: readonly string[] | undefined;
  long?: boolean;
  /** May not be empty. */
  needed?: boolean;
  onSet: (value: string) => void;
}) {
  const [typed, setTyped] = useState(value);
  useEffect(() => setTyped(value), [value]);
  if (choices)
    return (
      <select aria-label={label} value={value} onChange={(e) => onSet(e.target.value)} className={inputClass}>
        <option value="">–</option>
        {[...new Set([...(value ? [value] : []), ...choices])].map((c) => (
          <option key={c}>{c}</option>
        ))}
      </select>
    );
  const set = () => {
    const next = typed.trim();
    if (next === value || (needed && next === '')) setTyped(value);
    else onSet(next);
  };
  const common = { 'aria-label': label, value: typed, onBlur: set };
  if (long)
    return (
      <textarea
        {...common}
        rows={2}
        onChange={(e) => setTyped(e.target.value)}
        className="w-full rounded-edge border border-rule bg-raised px-2 py-1 text-ink"
      />
    );
  return (
    <input
      {...common}
      onChange={(e) => setTyped(e.target.value)}
      onKeyDown={(e) => e.key === 'Enter' && set()}
      className={`${inputClass} font-mono text-small`}
    />
  );
}
