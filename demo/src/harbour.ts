import { randomOf, type Random } from './random.js';

/**
 * The port of Saltmere as its operational database knows it at the end of a day: made up, generated
 * from a seed, the same for the same seed and day. Days count from 1 January 2026.
 */
export interface HarbourSize {
  readonly vessels: number;
  readonly callsPerDay: number;
}

export const SIZES: Readonly<Record<'small' | 'medium', HarbourSize>> = {
  small: { vessels: 200, callsPerDay: 14 },
  medium: { vessels: 20_000, callsPerDay: 16_000 },
};

export const DEMO_SEED = 1848;
export const FIRST_DAYS = 60;
/** From this day on the system keeps a register number of each owner: a new column. */
const REGISTER_DAY = FIRST_DAYS + 7;

type Value = string | number | null;

export interface HarbourTable {
  readonly name: string;
  /** Column definitions as SQL. */
  readonly columns: readonly string[];
  readonly primaryKey?: string;
  readonly rows: readonly (readonly Value[])[];
}

interface Vessel {
  hull: string;
  name: string;
  flag: string | null;
  tonnage: number;
  owner: number;
  built: string;
  scrapped: string | null;
  changed: string;
}

interface Berth {
  id: number;
  terminal: string;
  code: string;
  name: string;
  length: number;
  depth: number;
  changed: string;
}

interface Call {
  no: string;
  hull: string;
  berth: string;
  from: string;
  to: string;
  status: string;
  announced: string;
  arrived: string | null;
  departed: string | null;
  tonnage: number;
  changed: string;
}

const FIRST_NAMES = [
  'Amber',
  'Bright',
  'Calm',
  'Dun',
  'Esk',
  'Far',
  'Grain',
  'Holm',
  'Inner',
  'Jade',
  'Keel',
  'Low',
  'Mere',
  'North',
  'Old',
  'Pale',
  'Quiet',
  'Rust',
  'Salt',
  'Thorn',
];
const LAST_NAMES = [
  'Tern',
  'Ledger',
  'Meridian',
  'Lantern',
  'Harvester',
  'Heron',
  'Pilot',
  'Wharf',
  'Beacon',
  'Current',
  'Compass',
  'Drift',
  'Anchor',
  'Gannet',
  'Sextant',
  'Plover',
];
const FLAGS = ['MR', 'OS', 'TL', 'VN', 'KD', 'BR'];
const PORTS: readonly (readonly [string, string, string])[] = [
  ['SAL', 'Saltmere', 'MR'],
  ['OSR', 'Ossery', 'OS'],
  ['TAL', 'Tallow Head', 'TL'],
  ['VNN', 'Vanner', 'VN'],
  ['KED', 'Kedge', 'KD'],
  ['BRM', 'Bramhaven', 'BR'],
  ['LUN', 'Lunmouth', 'MR'],
  ['GRY', 'Grayling', 'OS'],
];
const TERMINALS: readonly (readonly [string, string])[] = [
  ['NQ', 'North Quay'],
  ['TB', 'Timber Basin'],
  ['GW', 'Grain Wharf'],
  ['BS', 'Box Stage'],
];
const GOODS = ['GRN', 'TIM', 'BOX', 'ORE', 'OIL', 'FSH'];
const OWNER_NAMES = [
  'Ambrel Lines',
  'Cooper & Holm',
  'Dunwall Shipping',
  'Esker Bulk',
  'Ferrant Sea',
  'Gale Brothers',
  'Harrow Marine',
  'Ister Tankers',
  'Jorrit Freight',
  'Kestle Ships',
];

/** The date of a day of the demo, `2026-03-01`. */
export function dateOf(day: number): string {
  return new Date(Date.UTC(2026, 0, 1 + day)).toISOString().slice(0, 10);
}

const stamp = (day: number, hour: number, minute = 0) =>
  new Date(Date.UTC(2026, 0, 1 + day, hour, minute)).toISOString();

/** A hull number with its check digit: the weighted sum of the digits, modulo 7. */
export function hullNumber(n: number): string {
  const digits = String(1000 + n);
  const sum = [...digits].reduce((s, d, i) => s + Number(d) * (i + 2), 0);
  return `KR-${digits}${sum % 7}`;
}

/** The whole operational database at the end of a day. */
export function harbourAt(day: number, size: HarbourSize = SIZES.small, seed: number = DEMO_SEED): HarbourTable[] {
  const world = new World(size, seed);
  for (let d = 0; d <= day; d++) world.liveDay(d);
  return world.tables(day);
}

class World {
  private readonly vessels: Vessel[] = [];
  private readonly berths: Berth[] = [];
  private readonly calls: Call[] = [];
  private readonly cargo: Value[][] = [];
  private readonly invoices: Value[][] = [];
  private readonly payments: Value[][] = [];
  private readonly owners: Value[][] = [];
  private readonly invoiced = new Set<string>();
  private callNumber = 0;

  constructor(
    private readonly size: HarbourSize,
    private readonly seed: number,
  ) {
    const r = randomOf(seed, -1, 0);
    OWNER_NAMES.forEach((name, i) => this.owners.push([i + 1, name, r.pick(FLAGS)]));
    for (let n = 0; n < size.vessels; n++) this.vessels.push(this.newVessel(n, r));
    TERMINALS.forEach(([terminal], t) => {
      for (let b = 1; b <= 4 + t; b++) {
        this.berths.push({
          id: this.berths.length + 1,
          terminal,
          code: `${terminal}-${b}`,
          name: `Berth ${b}`,
          length: r.int(80, 320),
          depth: r.int(60, 150) / 10,
          changed: stamp(-30, 9),
        });
      }
    });
  }

  private newVessel(n: number, r: Random): Vessel {
    return {
      hull: hullNumber(n),
      name: `${r.pick(FIRST_NAMES)} ${r.pick(LAST_NAMES)}`,
      flag: r.chance(0.04) ? null : r.pick(FLAGS),
      tonnage: r.chance(0.03) ? 0 : r.int(6_000, 620_000) / 10,
      owner: r.int(1, OWNER_NAMES.length),
      built: dateOf(-r.int(400, 14_000)),
      scrapped: null,
      changed: stamp(-r.int(1, 30), r.int(6, 18)),
    };
  }

  liveDay(day: number): void {
    const r = randomOf(this.seed, day, 1);
    this.changeVessels(day, r);
    if (day > 0 && day % 17 === 0) {
      const berth = r.pick(this.berths);
      Object.assign(berth, { depth: berth.depth + 0.5, name: `${berth.name} (dredged)`, changed: stamp(day, 7) });
    }
    this.correctCalls(day, r);
    const count = Math.max(1, Math.round(this.size.callsPerDay * (0.7 + 0.6 * r.next())));
    for (let i = 0; i < count; i++) this.newCall(day, r);
    this.settle(day, r);
  }

  private changeVessels(day: number, r: Random): void {
    const alive = this.vessels.filter((v) => v.scrapped === null);
    const changes = Math.max(1, Math.round(this.size.vessels / 100));
    for (let i = 0; i < changes; i++) {
      const vessel = r.pick(alive);
      const what = r.next();
      if (what < 0.4) vessel.flag = r.pick(FLAGS);
      else if (what < 0.6) vessel.name = `${r.pick(FIRST_NAMES)} ${r.pick(LAST_NAMES)}`;
      else if (what < 0.85) vessel.tonnage = Math.round(vessel.tonnage * (0.95 + 0.1 * r.next()) * 10) / 10;
      else if (what < 0.97) vessel.owner = r.int(1, OWNER_NAMES.length);
      else vessel.scrapped = dateOf(day);
      vessel.changed = stamp(day, r.int(6, 18));
    }
  }

  /** Calls of the last days arrive, depart, are cancelled or corrected. */
  private correctCalls(day: number, r: Random): void {
    for (const call of this.calls.slice(-6 * this.size.callsPerDay)) {
      if (call.status === 'announced' && r.chance(0.7)) {
        if (r.chance(0.06)) Object.assign(call, { status: 'cancelled', changed: stamp(day, 8) });
        else
          Object.assign(call, {
            status: 'arrived',
            arrived: stamp(day, r.int(0, 20), r.int(0, 59)),
            changed: stamp(day, 21),
          });
      } else if (call.status === 'arrived' && r.chance(0.6)) {
        Object.assign(call, {
          status: 'departed',
          departed: stamp(day, r.int(21, 23), r.int(0, 59)),
          changed: stamp(day, 23, 59),
        });
        this.invoice(call, day, r);
      } else if (call.status === 'departed' && r.chance(0.02)) {
        Object.assign(call, { tonnage: Math.round(call.tonnage * 1.01 * 100) / 100, changed: stamp(day, 12) });
      }
    }
  }

  private newCall(day: number, r: Random): void {
    const vessel = r.pick(this.vessels);
    if (vessel.scrapped !== null) return;
    const no = `C${String(++this.callNumber).padStart(6, '0')}`;
    const tonnage = r.int(5_000, 2_500_000) / 100;
    const call: Call = {
      no,
      hull: vessel.hull,
      berth: r.pick(this.berths).code,
      from: r.pick(PORTS)[0],
      to: r.pick(PORTS)[0],
      status: 'announced',
      announced: stamp(day, r.int(0, 23), r.int(0, 59)),
      arrived: null,
      departed: null,
      tonnage,
      changed: stamp(day, 23, 59),
    };
    this.calls.push(call);
    const lines = r.int(1, 3);
    for (let l = 1; l <= lines; l++)
      this.cargo.push([
        this.cargo.length + 1,
        no,
        l,
        r.pick(GOODS),
        r.pick(['in', 'out']),
        Math.round((tonnage / lines) * 100) / 100,
      ]);
    // The system lets one row through twice now and then: same number, later change.
    if (r.chance(0.02)) this.calls.push({ ...call, changed: stamp(day + 1, 0, 30) });
  }

  private invoice(call: Call, day: number, r: Random): void {
    // A call that the system let through twice is charged once.
    if (this.invoiced.has(call.no)) return;
    this.invoiced.add(call.no);
    const id = this.invoices.length + 1;
    const amount = Math.round(call.tonnage * (0.8 + 0.6 * r.next()) * 100) / 100;
    this.invoices.push([
      id,
      `I${String(id).padStart(6, '0')}`,
      call.no,
      dateOf(day),
      amount.toFixed(2),
      stamp(day, 23, 59),
    ]);
  }

  private settle(day: number, r: Random): void {
    for (const invoice of this.invoices.slice(-5 * this.size.callsPerDay)) {
      const paid = this.payments.some((p) => p[1] === invoice[0]);
      if (!paid && r.chance(0.3)) this.payments.push([this.payments.length + 1, invoice[0]!, dateOf(day), invoice[4]!]);
    }
  }

  /** Tables that nobody has declared yet: keys in mixed case, numbers and dates kept as text, words for nothing. */
  private pilotTables(): HarbourTable[] {
    const pilots = FIRST_NAMES.slice(0, 8).map((name, i): Value[] => [
      i + 1,
      ` ${name} ${LAST_NAMES[(i * 5) % LAST_NAMES.length]!}`,
      i % 3 === 0 ? 'N' : 'Y',
      i % 4 === 0 ? 'n/a' : `0${7000 + i}`,
    ]);
    const piloted = this.calls.filter((c) => c.arrived !== null);
    const hours = (i: number) => (i % 29 === 0 ? '' : ((((i * 7) % 30) + 5) / 10).toFixed(1));
    return [
      {
        name: 'pilots',
        columns: ['"PilotNo" integer', 'name text', 'licensed text', 'phone text'],
        primaryKey: '"PilotNo"',
        rows: pilots,
      },
      {
        name: 'pilotages',
        columns: [
          '"PilotageID" integer',
          'call_no text',
          '"PilotNo" integer references ops.pilots',
          'hours text',
          'done_on text',
        ],
        primaryKey: '"PilotageID"',
        rows: piloted.map((c, i) => [i + 1, c.no, (i % pilots.length) + 1, hours(i), c.arrived!.slice(0, 10)]),
      },
      {
        name: 'berth_inspections',
        columns: ['inspection_no integer', 'berth_code text', 'result text', 'inspected_on date'],
        primaryKey: 'inspection_no',
        rows: this.berths.map((b, i) => [i + 1, b.code, ['sound', ' worn ', 'unsafe'][i % 3]!, dateOf(-10 - i)]),
      },
    ];
  }

  tables(day: number): HarbourTable[] {
    const registers = day >= REGISTER_DAY;
    return [
      {
        name: 'terminals',
        columns: ['terminal_code text', 'terminal_name text'],
        primaryKey: 'terminal_code',
        rows: TERMINALS,
      },
      {
        name: 'ports',
        columns: ['port_code text', 'port_name text', 'flag_code text'],
        primaryKey: 'port_code',
        rows: PORTS,
      },
      {
        name: 'owners',
        columns: ['owner_id integer', 'owner_name text', 'flag_code text', ...(registers ? ['register_no text'] : [])],
        primaryKey: 'owner_id',
        rows: registers ? this.owners.map((o) => [...o, `R-${1000 + Number(o[0])}`]) : this.owners,
      },
      {
        name: 'berths',
        columns: [
          '"BerthID" integer',
          'terminal_code text',
          'berth_code text',
          'berth_name text',
          'length_m numeric(6,1)',
          'depth_m numeric(4,1)',
          'changed_at timestamptz',
        ],
        primaryKey: '"BerthID"',
        rows: this.berths.map((b) => [
          b.id,
          b.terminal,
          b.code,
          ` ${b.name} `,
          b.length,
          b.depth.toFixed(1),
          b.changed,
        ]),
      },
      {
        name: 'vessels',
        columns: [
          'hull_no text',
          'vessel_name text',
          'flag text',
          'gross_t numeric',
          'owner_id integer',
          'built_on date',
          'scrapped_on date',
          'changed_at timestamptz',
        ],
        primaryKey: 'hull_no',
        rows: this.vessels.map((v) => [v.hull, v.name, v.flag, v.tonnage, v.owner, v.built, v.scrapped, v.changed]),
      },
      {
        name: 'calls',
        columns: [
          'call_no text',
          'hull_no text',
          'berth_code text',
          'from_port text',
          'to_port text',
          'status text',
          'announced_at timestamptz',
          'arrived_at timestamptz',
          'departed_at timestamptz',
          'tonnage numeric(12,2)',
          'changed_at timestamptz',
        ],
        rows: this.calls.map((c) => [
          c.no,
          c.hull,
          c.berth,
          c.from,
          c.to,
          c.status,
          c.announced,
          c.arrived,
          c.departed,
          c.tonnage,
          c.changed,
        ]),
      },
      {
        name: 'cargo_lines',
        columns: [
          'line_id bigint',
          'call_no text',
          'line_no integer',
          'goods_code text',
          'direction text',
          'tonnes numeric(12,2)',
        ],
        primaryKey: 'line_id',
        rows: this.cargo,
      },
      {
        name: 'dues_invoices',
        columns: [
          'invoice_id bigint',
          'invoice_no text',
          'call_no text',
          'invoiced_on date',
          'amount money',
          'changed_at timestamptz',
        ],
        primaryKey: 'invoice_id',
        rows: this.invoices,
      },
      ...this.pilotTables(),
      {
        name: 'payments',
        columns: ['payment_id bigint', 'invoice_id bigint', 'paid_on date', 'amount money'],
        primaryKey: 'payment_id',
        rows: this.payments,
      },
    ];
  }
}

/** Rows as the text format of COPY. */
export function copyText(rows: HarbourTable['rows']): string {
  const field = (v: Value) =>
    v === null ? '\\N' : String(v).replaceAll('\\', '\\\\').replaceAll('\t', '\\t').replaceAll('\n', '\\n');
  return rows.map((row) => row.map(field).join('\t') + '\n').join('');
}
