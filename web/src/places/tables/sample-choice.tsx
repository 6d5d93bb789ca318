import { Popover } from 'radix-ui';
import { useState } from 'react';
import { useProject } from '../../data/project';
import { inputClass } from '../../shared/ui/input';
import { Button } from '../../shared/ui/button';
import type { PreviewState } from './use-preview';

const SHARES = [0.5, 0.1, 0.01];

/** Thins out one large input of a preview: a share of its rows, or some rows of each value so that rare ones stay. */
export function SampleChoice({ inputs, preview }: { inputs: readonly string[]; preview: PreviewState }) {
  const { tables } = useProject();
  const { sample, setSample } = preview;
  const [open, setOpen] = useState(false);
  const table = sample?.table ?? inputs[0]!;
  const how = sample === undefined ? 'all' : sample.by ? 'each' : String(sample.share);
  const columns = tables.get(table)?.columns ?? [];
  const choose = (next: string) => {
    if (next === 'all') setSample(undefined);
    else if (next === 'each') setSample({ table, by: columns.slice(0, 1).map((c) => c.name), each: 20 });
    else setSample({ table, share: Number(next) });
  };
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger asChild>
        <Button tone="quiet" className="h-6!">
          {sample ? `a sample of ${sample.table}` : 'all rows of its inputs'}
        </Button>
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="start"
          side="top"
          sideOffset={4}
          className="z-50 flex flex-col gap-2 border border-rule bg-raised p-3 text-ink shadow-sm"
        >
          <select
            aria-label="Input"
            value={table}
            onChange={(e) => setSample({ table: e.target.value, share: 0.1 })}
            className={`${inputClass} w-64!`}
          >
            {inputs.map((t) => (
              <option key={t}>{t}</option>
            ))}
          </select>
          <select
            aria-label="How much of it"
            value={how}
            onChange={(e) => choose(e.target.value)}
            className={inputClass}
          >
            <option value="all">all rows</option>
            {SHARES.map((s) => (
              <option key={s} value={s}>
                about {s * 100} % of its rows
              </option>
            ))}
            <option value="each">some rows of each value</option>
          </select>
          {sample?.by && (
            <div className="flex items-center gap-2">
              <input
                type="number"
                min={1}
                max={10000}
                aria-label="Rows of each value"
                value={sample.each}
                onChange={(e) => setSample({ ...sample, each: Math.max(1, Number(e.target.value)) })}
                className={`${inputClass} w-20!`}
              />
              <span className="whitespace-nowrap">rows of each</span>
              <select
                aria-label="Column"
                value={sample.by[0]}
                onChange={(e) => setSample({ ...sample, by: [e.target.value] })}
                className={inputClass}
              >
                {columns.map((c) => (
                  <option key={c.name}>{c.name}</option>
                ))}
              </select>
            </div>
          )}
          <p className="max-w-64 text-small text-soft">For previews only: a run reads every row.</p>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
