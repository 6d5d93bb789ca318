import type { RestorePlan } from '@ouvrage/api/release';
import { diskSize, rows as rowsWords } from '../../shared/format';

type Restored = RestorePlan['tables'][number];

const LOOKS: Readonly<Record<Restored['mark'], string>> = {
  'comes back': 'text-soft',
  'comes back in part': 'text-advisory-text',
  lost: 'text-broken',
};

/** The tables that come back by kept copies, each with what it comes back as; those that are not as they were are confirmed. */
export function ComesBackList({
  tables,
  consents,
  onConsent,
}: {
  readonly tables: readonly Restored[];
  readonly consents?: readonly string[];
  readonly onConsent?: (consents: readonly string[]) => void;
}) {
  if (tables.length === 0) return <p className="text-soft">No table has changed since.</p>;
  return (
    <ul aria-label="Tables that come back">
      {tables.map((t) => {
        const words = (
          <span className="min-w-0 flex-1 break-words">
            <span className="font-mono text-small">{t.table}</span> <span className={LOOKS[t.mark]}>{t.mark}</span>
            <span className="block text-small text-soft">
              {[
                ...(t.rows === null ? [] : [rowsWords(t.rows)]),
                ...(t.bytes === null ? [] : [diskSize(t.bytes)]),
                ...(t.why === '' ? [] : [t.why]),
              ].join(', ')}
            </span>
          </span>
        );
        return (
          <li key={t.table} className="border-b border-line py-1.5">
            {onConsent && consents && t.mark !== 'comes back' ? (
              <label className="flex items-baseline gap-2">
                <input
                  type="checkbox"
                  checked={consents.includes(t.table)}
                  onChange={(e) =>
                    onConsent(e.target.checked ? [...consents, t.table] : consents.filter((c) => c !== t.table))
                  }
                />
                {words}
              </label>
            ) : (
              words
            )}
          </li>
        );
      })}
    </ul>
  );
}
