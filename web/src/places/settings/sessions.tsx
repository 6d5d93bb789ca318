import type { OwnSession } from '@ouvrage/api/people';
import { useEndSessionMutation, useOwnSessionsQuery, useSessionLimitsQuery } from '../../data/people';
import { moment, plural } from '../../shared/format';
import { useTell } from '../../shared/toasts';
import { Button } from '../../shared/ui/button';
import { DataTable, type DataColumn } from '../../shared/ui/data-table';
import { SectionTitle } from '../../shared/ui/section-title';

/** Where one is signed in. */
export function Sessions() {
  const { data: sessions = [] } = useOwnSessionsQuery();
  const { data: limits } = useSessionLimitsQuery();
  const [end] = useEndSessionMutation();
  const tell = useTell();
  return (
    <section className="flex flex-col gap-2">
      <SectionTitle
        aside={
          limits
            ? `end after ${plural(limits.idleHours, 'hour')} without use, and after ${plural(limits.days, 'day')}`
            : ''
        }
      >
        Sessions
      </SectionTitle>
      <DataTable
        label="Sessions"
        columns={columnsOf((s) => void end(s.number).unwrap().catch(tell.problem))}
        rows={sessions}
        keyOf={(s) => s.number}
      />
    </section>
  );
}

const columnsOf = (onEnd: (session: OwnSession) => void): readonly DataColumn<OwnSession>[] => [
  {
    id: 'browser',
    cell: (s) => (
      <span title={s.agent}>
        {browserOf(s.agent)}
        {s.isThis && <span className="text-soft">, this one</span>}
      </span>
    ),
  },
  { id: 'address', look: 'font-mono text-small', sortBy: (s) => s.address, cell: (s) => s.address },
  { id: 'begun', sortBy: (s) => s.begunAt, cell: (s) => moment(s.begunAt) },
  { id: 'last used', sortBy: (s) => s.usedAt, cell: (s) => moment(s.usedAt) },
  {
    id: 'end',
    isSilent: true,
    cell: (s) =>
      !s.isThis && (
        <Button tone="quiet" onClick={() => onEnd(s)}>
          End
        </Button>
      ),
  },
];

/** Browsers by what they say that they are; the first that fits, as most name others, too. */
const BROWSERS: readonly (readonly [RegExp, string])[] = [
  [/\bEdg\//, 'Edge'],
  [/\bOPR\//, 'Opera'],
  [/\bFirefox\//, 'Firefox'],
  [/\b(?:Headless)?Chrom(?:e|ium)\//, 'Chromium'],
  [/\bSafari\//, 'Safari'],
];
const SYSTEMS: readonly (readonly [RegExp, string])[] = [
  [/Windows/, 'Windows'],
  [/iPhone|iPad/, 'iOS'],
  [/Mac OS X/, 'macOS'],
  [/Android/, 'Android'],
  [/Linux/, 'Linux'],
];

/** `Firefox on Linux`, of what a browser says that it is. */
export function browserOf(agent: string): string {
  const found = (known: typeof BROWSERS) => known.find(([pattern]) => pattern.test(agent))?.[1];
  const [browser, system] = [found(BROWSERS), found(SYSTEMS)];
  return [browser ?? 'A program', ...(system ? [`on ${system}`] : [])].join(' ');
}
