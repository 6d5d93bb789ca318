import { DateField } from '../../shared/ui/date-field';
import { dateDimension, type DateChoices } from '@ouvrage/core/starter';
import { useState } from 'react';
import { inputClass } from '../../shared/ui/input';
import { StarterSheet } from './starter-sheet';
import { present } from '../../data/time';

const MONTHS = [
  'January',
  'February',
  'March',
  'April',
  'May',
  'June',
  'July',
  'August',
  'September',
  'October',
  'November',
  'December',
];

/** A calendar with its weeks and its fiscal year. */
export function Dates() {
  const year = new Date(present()).getFullYear();
  const [choices, setChoices] = useState<Omit<DateChoices, 'fullName'>>({
    from: `${year - 5}-01-01`,
    to: `${year + 5}-12-31`,
    fiscalStart: 1,
    fiscalNamedBy: 'start',
    weeks: 'iso',
  });
  const change = (changes: Partial<typeof choices>) => setChoices({ ...choices, ...changes });
  const days = (Date.parse(choices.to) - Date.parse(choices.from)) / 86_400_000 + 1;
  const wants = !(days >= 1)
    ? 'Choose a last day that is not before the first.'
    : days > 100_000
      ? 'Choose fewer than 100,000 days.'
      : undefined;
  return (
    <StarterSheet
      title="Date dimension"
      layer="core"
      queries={wants ? [] : [{ name: 'dim_date', sql: (fullName) => dateDimension({ fullName, ...choices }) }]}
      wants={wants}
    >
      <div className="flex flex-wrap gap-4">
        <DateField label="first day" value={choices.from} onChange={(from) => change({ from })} />
        <DateField label="last day" value={choices.to} onChange={(to) => change({ to })} />
      </div>
      <label className="flex flex-col text-small">
        weeks
        <select
          value={choices.weeks}
          onChange={(e) => change({ weeks: e.target.value as DateChoices['weeks'] })}
          className={`${inputClass} w-96!`}
        >
          <option value="iso">from Monday; week 1 has the first Thursday (ISO 8601)</option>
          <option value="sunday">from Sunday; week 1 has 1 January</option>
        </select>
      </label>
      <div className="flex flex-wrap gap-4">
        <label className="flex flex-col text-small">
          the fiscal year begins in
          <select
            value={choices.fiscalStart}
            onChange={(e) => change({ fiscalStart: Number(e.target.value) })}
            className={`${inputClass} w-40!`}
          >
            {MONTHS.map((m, i) => (
              <option key={m} value={i + 1}>
                {m}
              </option>
            ))}
          </select>
        </label>
        <label className="flex flex-col text-small">
          and is called by the year in which it
          <select
            value={choices.fiscalNamedBy}
            disabled={choices.fiscalStart === 1}
            onChange={(e) => change({ fiscalNamedBy: e.target.value as DateChoices['fiscalNamedBy'] })}
            className={`${inputClass} w-40!`}
          >
            <option value="start">begins</option>
            <option value="end">ends</option>
          </select>
        </label>
      </div>
    </StarterSheet>
  );
}
