import type { Node } from 'libpg-query';
import { strings } from '../sql/nodes.js';

/** The name that PostgreSQL gives a select item without an alias (its FigureColname). */
export function outputName(node: Node): string {
  return figure(node)?.name ?? '?column?';
}

/** `strong` names win over a cast's type name. */
interface Figured {
  readonly name: string;
  readonly strong: boolean;
}

function last(nodes: readonly Node[] | undefined): string | undefined {
  return strings(nodes).at(-1);
}

function strong(name: string | undefined): Figured | undefined {
  return name === undefined ? undefined : { name, strong: true };
}

function figure(node: Node): Figured | undefined {
  if ('ColumnRef' in node) return strong(last(node.ColumnRef.fields));
  if ('A_Indirection' in node)
    return strong(last(node.A_Indirection.indirection)) ?? (node.A_Indirection.arg && figure(node.A_Indirection.arg));
  if ('FuncCall' in node) return strong(last(node.FuncCall.funcname));
  if ('A_Expr' in node) return node.A_Expr.kind === 'AEXPR_NULLIF' ? strong('nullif') : undefined;
  if ('TypeCast' in node) {
    const inner = node.TypeCast.arg && figure(node.TypeCast.arg);
    if (inner?.strong) return inner;
    const type = last(node.TypeCast.typeName?.names);
    return type === undefined ? inner : { name: type, strong: false };
  }
  if ('CollateClause' in node) return node.CollateClause.arg && figure(node.CollateClause.arg);
  if ('GroupingFunc' in node) return strong('grouping');
  if ('SubLink' in node) return subLink(node.SubLink);
  if ('CaseExpr' in node) {
    const inner = node.CaseExpr.defresult && figure(node.CaseExpr.defresult);
    return inner?.strong ? inner : { name: 'case', strong: false };
  }
  if ('A_ArrayExpr' in node) return strong('array');
  if ('RowExpr' in node) return strong('row');
  if ('CoalesceExpr' in node) return strong('coalesce');
  if ('MinMaxExpr' in node) return strong(node.MinMaxExpr.op === 'IS_LEAST' ? 'least' : 'greatest');
  if ('SQLValueFunction' in node) return strong(sqlValueName(node.SQLValueFunction.op));
  if ('XmlExpr' in node && node.XmlExpr.op === 'IS_DOCUMENT') return undefined;
  if ('XmlExpr' in node) return strong(String(node.XmlExpr.op).replace(/^IS_/, '').toLowerCase());
  if ('XmlSerialize' in node) return strong('xmlserialize');
  if ('JsonObjectConstructor' in node) return strong('json_object');
  if ('JsonArrayConstructor' in node || 'JsonArrayQueryConstructor' in node) return strong('json_array');
  if ('JsonObjectAgg' in node) return strong('json_objectagg');
  if ('JsonArrayAgg' in node) return strong('json_arrayagg');
  return undefined;
}

/** `SVFOP_CURRENT_DATE` is `current_date`; a precision (`_N`) does not show. */
function sqlValueName(op: string | undefined): string | undefined {
  return op
    ?.replace(/^SVFOP_/, '')
    .replace(/_N$/, '')
    .toLowerCase();
}

function subLink(link: { subLinkType?: string; subselect?: Node }): Figured | undefined {
  switch (link.subLinkType) {
    case 'EXISTS_SUBLINK':
      return strong('exists');
    case 'ARRAY_SUBLINK':
      return strong('array');
    case 'EXPR_SUBLINK': {
      const select = link.subselect && 'SelectStmt' in link.subselect ? link.subselect.SelectStmt : undefined;
      if (select?.valuesLists) return strong('column1');
      const first = select?.targetList?.[0];
      if (!first || !('ResTarget' in first)) return undefined;
      return first.ResTarget.name !== undefined
        ? strong(first.ResTarget.name)
        : first.ResTarget.val && figure(first.ResTarget.val);
    }
    default:
      return undefined;
  }
}
