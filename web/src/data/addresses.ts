/** Addresses of the interface; each can be sent to a colleague. */
export const address = {
  place: (ws: string, place: string) => `/w/${ws}/${place}`,
  table: (ws: string, table: string, facet?: string) =>
    `/w/${ws}/tables/${table}${facet && facet !== 'definition' ? `/${facet}` : ''}`,
  file: (ws: string, path: string) => `/w/${ws}/files/${path}`,
  starter: (ws: string, starter?: string, table?: string) =>
    `/w/${ws}/new${starter ? `/${starter}` : ''}${table ? `?table=${table}` : ''}`,
  check: (ws: string, id: string) => `/w/${ws}/quality/${id}`,
  incidents: (ws: string) => `/w/${ws}/incidents`,
  incident: (ws: string, id: number) => `/w/${ws}/incidents/${id}`,
  /** What ran of a table on a day. */
  day: (ws: string, { table, day }: { readonly table: string; readonly day: string }) =>
    `/w/${ws}/quality?table=${table}&day=${day}`,
  /** A measure of a table over time. */
  watch: (ws: string, { table, measure }: { readonly table: string; readonly measure: string }) =>
    `/w/${ws}/quality?table=${table}&watch=${encodeURIComponent(measure)}`,
  run: (ws: string, id: number, step?: number) => `/w/${ws}/runs/${id}${step === undefined ? '' : `/${step}`}`,
  jobs: (ws: string, job?: string) => `/w/${ws}/runs/jobs${job === undefined ? '' : `/${job}`}`,
  lineage: (ws: string, focus?: string) => `/w/${ws}/lineage${focus ? `?focus=${focus}` : ''}`,
  /** How a column is made, in words. */
  trace: (ws: string, { table, column }: { readonly table: string; readonly column: string }) =>
    `/w/${ws}/tables/${table}/trace?column=${encodeURIComponent(column)}`,
  /** The way of a column, drawn. */
  way: (ws: string, { table, column }: { readonly table: string; readonly column: string }) =>
    `/w/${ws}/lineage?focus=${table}&column=${encodeURIComponent(column)}`,
  /** The rows of a table beside production's. */
  comparedRows: (ws: string, table: string) => `/w/${ws}/releases?rows=${encodeURIComponent(table)}`,
  /** The rows of all tables that differ from production's. */
  comparedAll: (ws: string) => `/w/${ws}/releases?rows=all`,
  release: (ws: string, id: number, path?: string) =>
    `/w/${ws}/releases?release=${id}${path === undefined ? '' : `&file=${encodeURIComponent(path)}`}`,
  review: (ws: string, path?: string) => `/w/${ws}/releases${path ? `?file=${encodeURIComponent(path)}` : ''}`,
};

export const PLACES = [
  ['today', 'Today'],
  ['sources', 'Sources'],
  ['tables', 'Tables'],
  ['lineage', 'Lineage'],
  ['quality', 'Quality'],
  ['runs', 'Runs'],
  ['releases', 'Releases'],
] as const;
