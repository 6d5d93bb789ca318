import { againstTargets, type TargetChoices } from '@ouvrage/core/starter';
import { useState } from 'react';
import { useProject } from '../../data/project';
import { inputClass } from '../../shared/ui/input';
import { Button } from '../../shared/ui/button';
import { bareName, ColumnSelect, ConditionField, Row, TableSelect, useStateFor } from './parts';
import { StarterSheet } from './starter-sheet';

type Grain = TargetChoices['grain'][number];
type Pair = TargetChoices['measures'][number];

const NUMERIC = /^(smallint|integer|bigint|numeric|real|double)/;

/** A reference table of targets held against what was achieved. */
export function Target() {
  const { tables } = useProject();
  const list = [...tables.values()];
  const [targetName, setTargets] = useState<string | undefined>(
    () => list.find((t) => t.kind === 'reference' && /target|goal|plan/.test(t.name))?.fullName,
  );
  const [actualName, setActuals] = useState<string>();
  const targets = tables.get(targetName ?? '');
  const actuals = tables.get(actualName ?? '');
  const numbers = (targets?.columns ?? []).filter((c) => NUMERIC.test(c.type ?? '') && !c.isKey);
  const keys = (targets?.columns ?? []).filter((c) => !numbers.includes(c));
  const own = new Set(actuals?.columns?.map((c) => c.name));
  const [grain, setGrain] = useStateFor<readonly Grain[]>(`${targetName ?? ''} ${actualName ?? ''}`, () =>
    keys.map((k) => ({ column: k.name, expression: own.has(k.name) ? k.name : '' })),
  );
  const [measures, setMeasures] = useStateFor<readonly Pair[]>(`${targetName ?? ''} ${actualName ?? ''}`, () =>
    numbers.slice(0, 1).map((c) => ({
      target: c.name,
      actual: { kind: 'sum', column: actuals?.columns?.find((a) => c.name.includes(a.name))?.name ?? '' },
      name: c.name.replace(/_target$|^target_/, ''),
    })),
  );
  const [only, setOnly] = useState('');
  const empty = grain.filter((g) => g.expression.trim() === '');
  const wants = !targets
    ? 'Choose the table of targets.'
    : !actuals
      ? 'Choose the table of what was achieved.'
      : empty.length
        ? `Enter what in ${actuals.fullName} gives ${empty.map((g) => g.column).join(', ')}.`
        : measures.length === 0 || measures.some((m) => !m.actual.column)
          ? 'Choose what is held against each target.'
          : undefined;
  const sql =
    wants === undefined
      ? againstTargets({
          targets: targets!.fullName,
          actuals: actuals!.fullName,
          grain,
          measures,
          ...(only.trim() ? { only } : {}),
        })
      : undefined;
  return (
    <StarterSheet
      title="Target against actual"
      layer="mart"
      wants={wants}
      queries={sql === undefined ? [] : [{ name: `${bareName(targetName!)}_reached`, sql }]}
    >
      <div className="grid grid-cols-2 gap-3">
        <TableSelect
          label="Targets"
          value={targetName}
          onChange={setTargets}
          tables={list.filter((t) => t.kind === 'reference')}
        />
        <TableSelect
          label="What was achieved"
          value={actualName}
          onChange={setActuals}
          tables={list.filter((t) => t.kind === 'definition')}
        />
      </div>
      {targets && actuals && (
        <>
          <section aria-label="Grain">
            <h3 className="caps mb-1">Both have one row for each</h3>
            {grain.map((g, i) => (
              <Row key={g.column}>
                <span className="w-36 truncate font-medium">{g.column}</span>
                <input
                  aria-label={`${g.column} from ${actuals.fullName}`}
                  placeholder={`SQL over ${actuals.fullName}, such as ${actuals.columns?.[0]?.name ?? 'a column'}`}
                  spellCheck={false}
                  value={g.expression}
                  onChange={(e) => setGrain(grain.map((o, j) => (j === i ? { ...o, expression: e.target.value } : o)))}
                  className={`${inputClass} flex-1 font-mono text-small`}
                />
                <Button
                  tone="quiet"
                  aria-label={`Leave out ${g.column}`}
                  onClick={() => setGrain(grain.filter((_, j) => j !== i))}
                >
                  ×
                </Button>
              </Row>
            ))}
          </section>
          <section aria-label="Measures">
            <h3 className="caps mb-1">Held against each other</h3>
            {measures.map((m, i) => {
              const change = (next: Pair) => setMeasures(measures.map((o, j) => (j === i ? next : o)));
              return (
                <Row key={i}>
                  <span className="w-40">
                    <ColumnSelect
                      label={`Target ${i + 1}`}
                      columns={numbers}
                      value={m.target}
                      onChange={(target) => target && change({ ...m, target })}
                    />
                  </span>
                  against the sum of
                  <span className="w-40">
                    <ColumnSelect
                      label={`Achieved ${i + 1}`}
                      columns={(actuals.columns ?? []).filter((c) => NUMERIC.test(c.type ?? 'numeric'))}
                      value={m.actual.column || undefined}
                      onChange={(column) => change({ ...m, actual: { kind: 'sum', column: column ?? '' } })}
                    />
                  </span>
                  as
                  <input
                    aria-label={`Name ${i + 1}`}
                    value={m.name}
                    onChange={(e) => change({ ...m, name: e.target.value })}
                    className={`${inputClass} w-32! font-mono text-small`}
                  />
                  <Button
                    tone="quiet"
                    aria-label={`Remove measure ${i + 1}`}
                    onClick={() => setMeasures(measures.filter((_, j) => j !== i))}
                  >
                    ×
                  </Button>
                </Row>
              );
            })}
            <div className="pt-2">
              <Button
                disabled={numbers.length === 0}
                onClick={() =>
                  setMeasures([
                    ...measures,
                    {
                      target: numbers[0]!.name,
                      actual: { kind: 'sum', column: '' },
                      name: `measure_${measures.length + 1}`,
                    },
                  ])
                }
              >
                Add a measure
              </Button>
            </div>
          </section>
          <ConditionField label="Only achieved rows where" value={only} onChange={setOnly} placeholder="all rows" />
        </>
      )}
    </StarterSheet>
  );
}
