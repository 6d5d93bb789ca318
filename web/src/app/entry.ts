import type { VerdictMark } from '../shared/marks';

/** Where is looked, in the order in which it is shown. */
export const GROUPS = [
  'Tables',
  'Columns',
  'Descriptions',
  'Owners',
  'Checks',
  'Notes',
  'SQL',
  'Runs',
  'Files',
  'Commands',
] as const;
export type EntryGroup = (typeof GROUPS)[number];

/** Something that the finder leads to. */
export interface Entry {
  readonly key: string;
  readonly group: EntryGroup;
  readonly label: string;
  readonly aside?: string;
  /** The words that were found, with what stands around them. */
  readonly around?: string;
  readonly layer?: number;
  readonly verdict?: Parameters<typeof VerdictMark>[0]['verdict'];
  readonly act: () => void;
}
