import { inputClass } from '../../shared/ui/input';
import { Button } from '../../shared/ui/button';
import { Constraints, NewConstraint } from './contract-constraints';
import { SHOWN_WHEN, words } from './contract-options';
import { Row, Value } from './contract-fields';
import { Tag } from '../../shared/ui/tag';
import { COLUMN_ROLES, roleFits, COLUMN_OPTIONS, choicesOf } from '@ouvrage/core/language';
import { useState } from 'react';
import type { Change } from './contract-change';
import type { ContractColumn, ContractView } from '@ouvrage/core/assist';
export function ColumnFields({ column, view, change }: { column: ContractColumn; view: ContractView; change: Change }) {
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

export function NewColumn({ change }: { change: Change }) {
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
