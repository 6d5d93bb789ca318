import { ChevronDown } from 'lucide-react';
import { DropdownMenu } from 'radix-ui';
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { address } from '../../app/addresses';
import { useStartRunMutation } from '../../app/api';
import { mayAct, usePerson, useProject } from '../../app/project';
import { useTell } from '../../shared/toasts';
import { Button } from '../../shared/ui';
import { RunParameters } from './run-parameters';

const CHOICES = [
  ['with what it needs', true, false],
  ['with what it feeds', false, true],
  ['with both', true, true],
  ['alone', false, false],
] as const;

/** Runs a table in the workspace; what equals production is read from there and not built again. */
export function RunButton({ table, before }: { table: string; before: () => Promise<void> }) {
  const { slug, isProduction, summary } = useProject();
  const [asking, setAsking] = useState(false);
  const person = usePerson();
  const [start, { isLoading }] = useStartRunMutation();
  const navigate = useNavigate();
  const tell = useTell();
  const allowed = mayAct(person, isProduction ? 'releaser' : 'editor');
  const run = async (upstream: boolean, downstream: boolean, parameters?: Readonly<Record<string, string>>) => {
    try {
      await before();
      const made = await start({ slug, tables: [table], upstream, downstream, ...(parameters ? { parameters } : {}) }).unwrap();
      void navigate(address.run(slug, made.id));
    } catch (error) {
      tell.problem(error);
    }
  };
  const reason = allowed ? undefined : `Your role is ${person.role}: ${isProduction ? 'a releaser may run in production' : 'an editor may run tables'}.`;
  return (
    <div className="flex">
      <Button tone="act" disabled={isLoading} {...(reason ? { reason } : {})} onClick={() => void run(true, false)} className="rounded-r-none">
        Run table
      </Button>
      {allowed && (
        <DropdownMenu.Root>
          <DropdownMenu.Trigger
            aria-label="How much to run"
            className="flex h-[27px] w-6 items-center justify-center rounded-r-[2px] border border-l-plan-text/40 border-plan bg-plan text-plan-text"
          >
            <ChevronDown size={13} aria-hidden />
          </DropdownMenu.Trigger>
          <DropdownMenu.Portal>
            <DropdownMenu.Content align="end" sideOffset={4} className="z-50 min-w-48 border border-rule bg-raised py-1 shadow-lg">
              {CHOICES.map(([label, up, down]) => (
                <DropdownMenu.Item
                  key={label}
                  onSelect={() => void run(up, down)}
                  className="cursor-pointer px-3 py-1.5 outline-none data-[highlighted]:bg-wash"
                >
                  {label}
                </DropdownMenu.Item>
              ))}
              {summary.parameters.length > 0 && (
                <DropdownMenu.Item
                  onSelect={() => setAsking(true)}
                  className="cursor-pointer border-t border-line px-3 py-1.5 outline-none data-[highlighted]:bg-wash"
                >
                  with other parameters …
                </DropdownMenu.Item>
              )}
            </DropdownMenu.Content>
          </DropdownMenu.Portal>
        </DropdownMenu.Root>
      )}
      {asking && <RunParameters table={table} onClose={() => setAsking(false)} onRun={(values) => void run(true, false, values)} />}
    </div>
  );
}
