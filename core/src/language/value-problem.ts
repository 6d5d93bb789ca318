const RANGES: Readonly<Record<string, readonly [bigint, bigint]>> = {
  smallint: [-32768n, 32767n],
  integer: [-2147483648n, 2147483647n],
  bigint: [-9223372036854775808n, 9223372036854775807n],
};

/**
 * Why a text is no value of a type; undefined where it is one. Dates and instants are taken as ISO
 * 8601 writes them: other forms depend on settings, and a wrong guess is worse than a refusal. Types
 * that are not known here pass; the database has the last word.
 */
export function valueProblem(type: string, value: string): string | undefined {
  const text = value.trim();
  const base = type.replace(/\(.*\)/, '');
  const range = RANGES[base];
  if (range) {
    if (!/^[-+]?\d+$/.test(text)) return 'is not a whole number';
    const n = BigInt(text.replace('+', ''));
    return n < range[0] || n > range[1] ? `does not fit ${base}` : undefined;
  }
  switch (base) {
    case 'numeric':
      return numericProblem(type, text);
    case 'real':
    case 'double precision':
      return /^[-+]?(\d+\.?\d*|\.\d+)([eE][-+]?\d+)?$/.test(text) || /^(nan|[-+]?inf(inity)?)$/i.test(text)
        ? undefined
        : 'is not a number';
    case 'boolean':
      return /^(t|f|true|false|y|n|yes|no|on|off|0|1)$/i.test(text) ? undefined : 'is neither true nor false';
    case 'date':
      return dateProblem(text);
    case 'timestamptz':
    case 'timestamp':
      return instantProblem(text);
    case 'uuid':
      return /^[0-9a-f]{8}-?[0-9a-f]{4}-?[0-9a-f]{4}-?[0-9a-f]{4}-?[0-9a-f]{12}$/i.test(text)
        ? undefined
        : 'is not a UUID';
    case 'varchar':
    case 'character': {
      const most = /\((\d+)\)/.exec(type)?.[1];
      return most !== undefined && [...value.trimEnd()].length > Number(most) ? `is longer than ${most}` : undefined;
    }
    case 'json':
    case 'jsonb':
      return jsonProblem(value);
    default:
      return undefined;
  }
}

function numericProblem(type: string, text: string): string | undefined {
  if (/^nan$/i.test(text)) return undefined;
  const [, whole = '', fraction = '', exponent] = /^[-+]?(\d*)\.?(\d*)(?:[eE]([-+]?\d+))?$/.exec(text) ?? [];
  if (whole + fraction === '') return 'is not a number';
  const shape = /\((\d+)(?:,(\d+))?\)/.exec(type);
  if (!shape || exponent !== undefined) return undefined;
  const [places, scale] = [Number(shape[1]), Number(shape[2] ?? 0)];
  // Rounding to the scale may carry into one more digit.
  const digits = `${whole}${fraction.slice(0, scale).padEnd(scale, '0')}`.replace(/^0+/, '');
  const rounded = Number(fraction[scale] ?? '0') >= 5 ? String(BigInt(digits || '0') + 1n) : digits;
  return rounded.length > places ? `does not fit ${type}` : undefined;
}

function dateProblem(text: string): string | undefined {
  const [, year, month, day] = /^(\d{4})-(\d{2})-(\d{2})$/.exec(text) ?? [];
  if (year === undefined) return 'is not a date such as 2026-03-01';
  const [y, m, d] = [Number(year), Number(month), Number(day)];
  const last = new Date(Date.UTC(y, m, 0)).getUTCDate();
  return y < 1 || m < 1 || m > 12 || d < 1 || d > last ? 'is not a calendar day' : undefined;
}

function instantProblem(text: string): string | undefined {
  const [, date, hours = '0', minutes = '0', seconds = '0'] =
    /^(\d{4}-\d{2}-\d{2})(?:[T ](\d{2}):(\d{2})(?::(\d{2})(?:\.\d+)?)?\s*(?:Z|[-+]\d{2}(?::?\d{2})?)?)?$/.exec(text) ??
    [];
  if (date === undefined) return 'is not a timestamp such as 2026-03-01 14:05:00+00';
  return (
    dateProblem(date) ??
    (Number(hours) > 23 || Number(minutes) > 59 || Number(seconds) > 59 ? 'is not a time of day' : undefined)
  );
}

function jsonProblem(value: string): string | undefined {
  try {
    JSON.parse(value);
    return undefined;
  } catch {
    return 'is not valid JSON';
  }
}
