import type { LoadPolicy } from '../model/load-policy.js';
import type { Definition } from '../model/project.js';
import type { Role } from './roles.js';

/** What a load policy is and needs. */
export interface PolicyRule {
  readonly help: string;
  /** False where nothing is stored: the table is a view. */
  readonly stored: boolean;
  /** Whether its table keeps rows from load to load. */
  readonly keepsRows: boolean;
  /** Whether it keeps versions of a row. */
  readonly versions: boolean;
  readonly businessKey: 'needed' | 'possible' | 'unused';
  /** Options without which it cannot load. */
  readonly needs: readonly 'watermark'[];
  /** Roles of columns without which it cannot load. */
  readonly roles: readonly Role[];
  /** What it can do with rows that the query no longer returns. */
  readonly missingRows: readonly string[];
  /** What to write for `largest_loss` to have something to guard. */
  readonly removesBy: string;
}

const NOTHING = { versions: false, needs: [], roles: [], missingRows: [], removesBy: '' } as const;

/** Every load policy: the one place that says what it means. */
export const POLICIES: Readonly<Record<LoadPolicy, PolicyRule>> = {
  view: { ...NOTHING, help: 'A view: nothing is stored.', stored: false, keepsRows: false, businessKey: 'unused' },
  rebuild: {
    ...NOTHING,
    help: 'Each load makes all rows again and swaps them in at once.',
    stored: true,
    keepsRows: false,
    businessKey: 'possible',
  },
  append: {
    ...NOTHING,
    help: 'Each load adds the rows past the greatest watermark that is loaded.',
    stored: true,
    keepsRows: true,
    businessKey: 'possible',
    needs: ['watermark'],
  },
  merge: {
    ...NOTHING,
    help: 'One row per business key, kept up to date.',
    stored: true,
    keepsRows: true,
    businessKey: 'needed',
    missingRows: ['keep', 'delete', 'flag'],
    removesBy: 'missing_rows = delete or flag, or delete_when',
  },
  history: {
    ...NOTHING,
    help: 'Every version of a business key, with the time for which it holds.',
    stored: true,
    keepsRows: true,
    versions: true,
    businessKey: 'needed',
    roles: ['valid from', 'valid to'],
    missingRows: ['keep', 'close'],
    removesBy: 'missing_rows = close',
  },
  dated: {
    ...NOTHING,
    help: 'A full copy per date.',
    stored: true,
    keepsRows: true,
    businessKey: 'possible',
    roles: ['as of'],
  },
};

export const LOAD_POLICIES = Object.keys(POLICIES) as readonly LoadPolicy[];

/** The policy of a table whose contract names none. */
export const DEFAULT_POLICY: LoadPolicy = 'rebuild';

type WithPolicy = Pick<Definition, 'policy'>;

export const isView = ({ policy }: WithPolicy): boolean => !POLICIES[policy].stored;
export const keepsRows = ({ policy }: WithPolicy): boolean => POLICIES[policy].keepsRows;

/** `history` or `merge and history`, as a sentence names them. */
export const policiesInWords = (policies: readonly LoadPolicy[]): string => policies.join(' and ');
