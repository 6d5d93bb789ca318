/** Columns that who looks may not see. */
export function LeftOut({ columns }: { columns: readonly string[] }) {
  return (
    <span className="text-advisory-text" title={columns.join(', ')}>
      without {columns.length > 3 ? `${columns.length} columns` : columns.join(', ')}: sensitive, so viewers do not see{' '}
      {columns.length === 1 ? 'it' : 'them'}
    </span>
  );
}
