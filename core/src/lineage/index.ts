export { columnId, partsOfId, rowsId, type ColumnEdges, type WayKind } from './edges.js';
export { lineageOf, type Lineage } from './graph.js';
export { impactOf, type Impact } from './impact.js';
export {
  carriedOwners,
  coverage,
  descriptionOf,
  type CarriedOwner,
  type Coverage,
  type Description,
} from './meaning.js';
export { station, untouchedWay, wayBack, wayForward, type Expression, type Reached, type Station } from './trace.js';
export { unread, type Unread } from './unread.js';
export {
  freedColumns,
  sensitiveColumns,
  sensitiveOf,
  visibleColumns,
  type SensitiveColumns,
  type Sensitivity,
} from './sensitive.js';
