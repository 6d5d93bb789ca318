import { useForm } from 'react-hook-form';
import type { FilterOp, RowFilter } from '@ouvrage/core/look';
import { DropdownMenu, Popover } from 'radix-ui';
import { useState } from 'react';
import { EXPORT_FORMATS, exportAddress } from '../../data/rows';
import { useProject } from '../../data/project';
import type { Look } from '@ouvrage/api/rows';
import { plural } from '../../shared/format';
import { useTell } from '../../shared/toasts';
import { inputClass } from '../../shared/ui/input';
import { Button } from '../../shared/ui/button';

const OPS: readonly FilterOp[] = ['=', '<>', '<', '<=', '>', '>=', 'contains', 'is null', 'is not null'];
const bare = (op: FilterOp) => op === 'is null' || op === 'is not null';
const said = (f: RowFilter) => `${f.column} ${f.op}${bare(f.op) ? '' : ` ${f.value ?? ''}`}`;

interface Props {
  readonly table: string;
  readonly columns: readonly { readonly name: string }[];
  readonly look: Look;
  readonly onLook: (look: Look) => void;
  readonly rows: readonly (readonly (string | null)[])[];
  readonly shown: readonly { readonly name: string }[];
}

/** Filters, columns and ways to take the rows along. */
export function LookBar({ table, columns, look, onLook, rows, shown }: Props) {
  const { slug } = useProject();
  const tell = useTell();
  const copy = () => {
    const lines = [shown.map((c) => c.name), ...rows.map((r) => r.map((v) => v ?? ''))].map((r) =>
      r.map((v) => v.replace(/[\t\r\n]+/g, ' ')).join('\t'),
    );
    navigator.clipboard.writeText(lines.join('\n')).then(
      () => tell.say(`${plural(rows.length, 'row')} copied`, 'With the header, columns separated by tabs.'),
      () => tell.say('The browser refused to copy', 'Save the rows as CSV instead.'),
    );
  };
  return (
    <div className="flex min-h-9 shrink-0 flex-wrap items-center gap-1.5 border-b border-line px-3.5 py-1">
      {look.filters.map((f, i) => (
        <span key={i} className="flex h-6 items-center gap-1 rounded-edge border border-plan bg-wash pl-2 text-small">
          <span className="font-mono">{said(f)}</span>
          <button
            type="button"
            aria-label={`Remove the filter ${said(f)}`}
            onClick={() => onLook({ ...look, filters: look.filters.filter((_, j) => j !== i) })}
            className="h-full px-1.5 text-plan hover:bg-raised"
          >
            ×
          </button>
        </span>
      ))}
      <AddFilter columns={columns} onAdd={(f) => onLook({ ...look, filters: [...look.filters, f] })} />
      <ChooseColumns columns={columns} chosen={look.show} onChoose={(show) => onLook({ ...look, show })} />
      <span className="flex-1" />
      <Button onClick={copy} disabled={rows.length === 0}>
        Copy
      </Button>
      <DropdownMenu.Root>
        <DropdownMenu.Trigger asChild>
          <Button>Save as</Button>
        </DropdownMenu.Trigger>
        <DropdownMenu.Portal>
          <DropdownMenu.Content
            align="end"
            sideOffset={4}
            className="z-50 border border-rule bg-raised py-1 text-ink shadow-sm"
          >
            {EXPORT_FORMATS.map(([format, name]) => (
              <DropdownMenu.Item key={format} asChild>
                <a
                  href={exportAddress(slug, table, look, format)}
                  download
                  className="block px-3 py-1 data-highlighted:bg-wash data-highlighted:outline-none"
                >
                  {name}, all rows
                </a>
              </DropdownMenu.Item>
            ))}
          </DropdownMenu.Content>
        </DropdownMenu.Portal>
      </DropdownMenu.Root>
    </div>
  );
}

function AddFilter({ columns, onAdd }: { columns: Props['columns']; onAdd: (filter: RowFilter) => void }) {
  const [open, setOpen] = useState(false);
  const { register, handleSubmit, resetField, watch } = useForm<Required<RowFilter>>({
    defaultValues: { column: '', op: '=', value: '' },
  });
  const op = watch('op');
  const add = ({ column, op, value }: Required<RowFilter>) => {
    onAdd({ column: column || columns[0]!.name, op, ...(bare(op) ? {} : { value }) });
    resetField('value');
    setOpen(false);
  };
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger asChild>
        <Button disabled={columns.length === 0}>Filter</Button>
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="start"
          sideOffset={4}
          className="z-50 border border-rule bg-raised p-3 text-ink shadow-sm"
        >
          <form className="flex items-end gap-2" onSubmit={(e) => void handleSubmit(add)(e)}>
            <select aria-label="Column" className={`${inputClass} w-40!`} {...register('column')}>
              {columns.map((c) => (
                <option key={c.name}>{c.name}</option>
              ))}
            </select>
            <select aria-label="Comparison" className={`${inputClass} w-28!`} {...register('op')}>
              {OPS.map((o) => (
                <option key={o}>{o}</option>
              ))}
            </select>
            {!bare(op) && <input aria-label="Value" className={`${inputClass} w-40!`} {...register('value')} />}
            <Button type="submit" tone="act">
              Add
            </Button>
          </form>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}

function ChooseColumns({
  columns,
  chosen,
  onChoose,
}: {
  columns: Props['columns'];
  chosen: readonly string[];
  onChoose: (show: string[]) => void;
}) {
  const all = columns.map((c) => c.name);
  const shown = chosen.length ? chosen : all;
  const toggle = (name: string) => {
    const next = all.filter((n) => (n === name ? !shown.includes(n) : shown.includes(n)));
    onChoose(next.length === all.length || next.length === 0 ? [] : next);
  };
  return (
    <Popover.Root>
      <Popover.Trigger asChild>
        <Button disabled={columns.length === 0}>
          {chosen.length ? `${chosen.length} of ${all.length} columns` : 'Columns'}
        </Button>
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="start"
          sideOffset={4}
          className="z-50 max-h-half overflow-auto border border-rule bg-raised p-3 text-ink shadow-sm"
        >
          <fieldset>
            <legend className="caps mb-1">Columns shown</legend>
            {all.map((name) => (
              <label key={name} className="flex min-h-control-small items-center gap-2">
                <input type="checkbox" checked={shown.includes(name)} onChange={() => toggle(name)} /> {name}
              </label>
            ))}
          </fieldset>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
