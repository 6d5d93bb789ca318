import type { Verdict } from '@ouvrage/core/check';
import { useId } from 'react';

const HATCHES = ['dots', 'rules', 'diagonal', 'crossed', 'solid', 'upright', 'grid', 'dashes'] as const;

/** The swatch of a layer, as a material is hatched in a section drawing. */
export function Hatch({ position, size = 13 }: { position: number; size?: number }) {
  const id = useId();
  const kind = HATCHES[position % HATCHES.length]!;
  return (
    <svg width={size} height={size} viewBox="0 0 14 14" aria-hidden className="shrink-0">
      <defs>
        <pattern id={id} x="1" y="1" width="4" height="4" patternUnits="userSpaceOnUse">
          {hatchLines(kind)}
        </pattern>
      </defs>
      <rect
        x="0.75"
        y="0.75"
        width="12.5"
        height="12.5"
        fill={kind === 'solid' ? 'var(--hatch)' : `url(#${id})`}
        stroke="var(--hatch)"
        strokeWidth="1.3"
      />
    </svg>
  );
}

function hatchLines(kind: (typeof HATCHES)[number]) {
  const line = (d: string) => <path d={d} stroke="var(--hatch)" strokeWidth="0.9" fill="none" />;
  switch (kind) {
    case 'dots':
      return <circle cx="2" cy="2" r="0.95" fill="var(--hatch)" />;
    case 'rules':
      return line('M0 2H4');
    case 'diagonal':
      return line('M-1 5L5 -1M-1 1L1 -1M3 5L5 3');
    case 'crossed':
      return line('M0 0L4 4M4 0L0 4');
    case 'upright':
      return line('M2 0V4');
    case 'grid':
      return line('M2 0V4M0 2H4');
    case 'dashes':
      return line('M0 1H2M2 3H4');
    case 'solid':
      return null;
  }
}

const WORDS: Readonly<Record<Verdict, string>> = {
  holds: 'holds',
  advisory: 'advisory',
  broken: 'broken',
  'not run': 'not run',
};

/** A verdict, told by shape first: full, half-filled, split, dashed square. */
export function VerdictMark({ verdict, size = 12, label }: { verdict: Verdict; size?: number; label?: string }) {
  return (
    <svg
      width={size}
      height={size}
      viewBox="0 0 12 12"
      role="img"
      aria-label={label ?? WORDS[verdict]}
      className="shrink-0"
    >
      <title>{label ?? WORDS[verdict]}</title>
      {shape(verdict)}
    </svg>
  );
}

function shape(verdict: Verdict) {
  switch (verdict) {
    case 'holds':
      return <rect x="1" y="1" width="10" height="10" fill="var(--holds)" />;
    case 'advisory':
      return (
        <>
          <rect x="1.7" y="1.7" width="8.6" height="8.6" fill="none" stroke="var(--advisory)" strokeWidth="1.4" />
          <path d="M1 11L11 1V11Z" fill="var(--advisory)" />
        </>
      );
    case 'broken':
      return (
        <>
          <path d="M1 1H5L3.6 4.5L5.4 7L4 11H1Z" fill="var(--broken)" />
          <path d="M7.2 1H11V11H6.2L7.6 7L5.9 4.5Z" fill="var(--broken)" />
        </>
      );
    case 'not run':
      return (
        <rect
          x="1.7"
          y="1.7"
          width="8.6"
          height="8.6"
          fill="none"
          stroke="var(--notrun)"
          strokeWidth="1.3"
          strokeDasharray="2 1.5"
        />
      );
  }
}

/** The word of a verdict in its colour. */
export function VerdictWord({ verdict }: { verdict: Verdict }) {
  const colour = {
    holds: 'text-holds-text',
    advisory: 'text-advisory-text',
    broken: 'text-broken',
    'not run': 'text-soft',
  }[verdict];
  return <span className={colour}>{WORDS[verdict]}</span>;
}
