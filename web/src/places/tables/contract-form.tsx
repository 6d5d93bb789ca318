import { ColumnFields, NewColumn } from './contract-columns';
import { AgainstQuery } from './against-query';
import type { Change } from './contract-change';
import { TableConstraints } from './contract-constraints';
import { Row, Value } from './contract-fields';
import { rulesOf, words, choicesIn, optionsFor } from './contract-options';
import type { ContractView } from '@ouvrage/core/assist';
import { DEFAULT_POLICY, LOAD_POLICIES, POLICIES, TABLE_OPTIONS } from '@ouvrage/core/language';
import { useState } from 'react';
import type { ProblemBody } from '@ouvrage/api/problem';
import { useTell } from '../../shared/toasts';
import { inputClass } from '../../shared/ui/input';
import { SectionTitle } from '../../shared/ui/section-title';
import { readerProblem } from '../../worker/channel';
import { projectWorker } from '../../worker/client';
import type { FileText } from './use-file-text';

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
