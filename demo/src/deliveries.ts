import { dateOf, DEMO_SEED, harbourAt, SIZES } from './harbour.js';
import { randomOf } from './random.js';

/** A file that the harbour's neighbours deliver: a text, or rows of a columnar file. */
export interface DeliveredFile {
  readonly name: string;
  readonly text?: string;
  readonly columns?: readonly { readonly name: string; readonly type: string }[];
  readonly rows?: readonly (readonly (string | null)[])[];
}

const csv = (header: string, rows: readonly (readonly (string | number)[])[], delimiter: string) =>
  [header, ...rows.map((r) => r.join(delimiter))].join('\n') + '\n';

/** The files of one day. On some days the rates are empty, and now and then the tide table has a word for a number. */
export function deliveriesOf(day: number): DeliveredFile[] {
  const date = dateOf(day);
  const r = randomOf(DEMO_SEED, day, 7);
  const world = harbourAt(day, SIZES.small);
  const rows = (name: string) => world.find((t) => t.name === name)!.rows;
  const berths = rows('berths').map((b) => String(b[2]));
  // Rates change every ten days; in between each day's copy is the same.
  const raised = Math.floor(day / 10) * 0.5;
  const rates = berths.map((berth, i) => [
    berth,
    (40 + i * 2.5 + raised).toFixed(2),
    i % 5 === 0 ? 'by call' : 'by day',
  ]);
  const tides = [0, 6, 12, 18].map((hour, i) => [
    `${date} ${String(hour).padStart(2, '0')}:${String(r.int(10, 59))}`,
    (i % 2 === 0 ? 3.2 : 0.8 + r.int(0, 9) / 10).toFixed(2).replace('.', ','),
  ]);
  if (day % 19 === 0) tides[2]![1] = 'calm';
  const cargo = rows('cargo_lines').slice(-12);
  return [
    { name: `berth_rates_${date}.csv`, text: day % 13 === 5 ? '' : csv('berth_code,rate,charged', rates, ',') },
    { name: `tide_table_${date}.csv`, text: csv('tide_at;height_m', tides, ';') },
    {
      name: `manifest_${date}.jsonl`,
      text: cargo
        .map(
          (c) =>
            JSON.stringify({
              line_id: c[0],
              call_no: c[1],
              goods_code: c[3],
              tonnes: c[5],
              marks: { dangerous: Number(c[0]) % 17 === 0 },
            }) + '\n',
        )
        .join(''),
    },
    {
      name: `weather_${date}.parquet`,
      columns: [
        { name: 'read_at', type: 'text' },
        { name: 'wind_ms', type: 'double precision' },
        { name: 'gusts', type: 'integer' },
      ],
      rows: Array.from({ length: 24 }, (_, hour) => [
        `${date}T${String(hour).padStart(2, '0')}:00:00Z`,
        String(r.int(0, 240) / 10),
        r.chance(0.1) ? null : String(r.int(0, 40)),
      ]),
    },
  ];
}
