/** A change of one file: what stands there, and what is written instead. */
interface DraftEdit {
  readonly path: string;
  readonly before: string;
  readonly after: string;
}

/** A workspace in which somebody has begun, with something to find in it. */
export const BEGUN_WORKSPACE = 'Dues by rate';

const EDITS: readonly DraftEdit[] = [
  {
    // Vessels without a flag are lost.
    path: 'core/dim_vessel.sql',
    before: 'left join reference.flag f on f.flag_code = v.flag_code',
    after: 'join reference.flag f on f.flag_code = v.flag_code',
  },
  {
    // A berth has a rate for each day that was delivered: each invoice is counted that often.
    path: 'mart/vessel_dues.sql',
    before: 'left join core.dim_vessel v on v.hull_no = d.hull_no and v.is_current',
    after:
      'left join core.dim_vessel v on v.hull_no = d.hull_no and v.is_current\nleft join core.berth_rate r on r.berth_code = d.berth_code',
  },
];

/** The drafts of that workspace. @param files the project's texts by path @throws Error where a text is not there */
export function begunDrafts(files: ReadonlyMap<string, string>): { readonly path: string; readonly text: string }[] {
  return EDITS.map(({ path, before, after }) => {
    const text = files.get(path);
    if (!text?.includes(before)) throw new Error(`${path} of the demo has no ${before}`);
    return { path, text: text.replace(before, () => after) };
  });
}
