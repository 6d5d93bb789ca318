import { plainIdent } from '../sql/quote.js';
import { measureSql, type Measure } from './summarise.js';
import { condition, select } from './text.js';
import { tableText } from '../sql/quote.js';

/** A table of targets held against what was achieved, on the targets' grain. */
export interface TargetChoices {
  readonly targets: string;
  readonly actuals: string;
  /** The targets' key columns, and for each the expression over the actuals that gives its value. */
  readonly grain: readonly { readonly column: string; readonly expression: string }[];
  readonly measures: readonly {
    readonly target: string;
    readonly actual: Omit<Measure, 'name'>;
    readonly name: string;
  }[];
  readonly only?: string;
}

/**
 * One row for each target and each achieved group, also where the other is missing: difference, and
 * the share of the target that was reached (null where the target is 0 or missing).
 */
export function againstTargets({ targets, actuals, grain, measures, only }: TargetChoices): string {
  const keys = grain.map((g) => plainIdent(g.column));
  const inner = select(
    [
      ...grain.map((g) => `${condition(g.expression)} as ${plainIdent(g.column)}`),
      ...measures.map((m) => `${measureSql({ ...m.actual, name: m.name })} as ${plainIdent(m.name)}`),
    ],
    [
      `from ${tableText(actuals)}`,
      only ? `where ${condition(only)}` : '',
      `group by ${grain.map((_, i) => i + 1).join(', ')}`,
    ],
  )
    .split('\n')
    .map((l) => `  ${l}`)
    .join('\n');
  const items = [
    ...keys.map((k) => `coalesce(t.${k}, a.${k}) as ${k}`),
    ...measures.flatMap((m) => {
      const [target, actual] = [`t.${plainIdent(m.target)}`, `a.${plainIdent(m.name)}`];
      return [
        `${target} as ${plainIdent(`${m.name}_target`)}`,
        `${actual} as ${plainIdent(`${m.name}_actual`)}`,
        `coalesce(${actual}, 0) - coalesce(${target}, 0) as ${plainIdent(`${m.name}_difference`)}`,
        `coalesce(${actual}, 0)::numeric / nullif(${target}, 0) as ${plainIdent(`${m.name}_reached`)}`,
      ];
    }),
  ];
  const on = keys.map((k) => `t.${k} = a.${k}`).join(' and ');
  return `-- ${targets} against ${actuals}\nwith achieved as (\n${inner}\n)\n${select(items, [`from ${tableText(targets)} t`, `full join achieved a on ${on}`])}\n`;
}
