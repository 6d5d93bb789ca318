import { inputClass } from '../../shared/ui/input';
import { useState } from 'react';
import { Button } from '../../shared/ui/button';
import { SectionTitle } from '../../shared/ui/section-title';
import type { Change } from './contract-change';
import type { ContractView } from '@ouvrage/core/assist';
export function TableConstraints({ view, change }: { view: ContractView; change: Change }) {
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

export function Constraints({ found, onDrop }: { found: ContractView['constraints']; onDrop: (name: string) => void }) {
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

export function NewConstraint({
  label,
  example,
  onAdd,
}: {
  label: string;
  example: string;
  onAdd: (text: string) => void;
}) {
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
