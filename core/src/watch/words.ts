const MINUTE = 60;
const HOUR = 60 * MINUTE;
const DAY = 24 * HOUR;

/** An age in its greatest units: `40 s`, `12 min`, `6 h`, `2 d 3 h`. @param seconds */
export function ageWords(seconds: number): string {
  if (seconds < MINUTE) return `${Math.floor(Math.max(0, seconds))} s`;
  if (seconds < HOUR) return `${Math.floor(seconds / MINUTE)} min`;
  const [days, hours] = [Math.floor(seconds / DAY), Math.floor((seconds % DAY) / HOUR)];
  return [...(days > 0 ? [`${days} d`] : []), ...(hours > 0 ? [`${hours} h`] : [])].join(' ');
}

const numbers = new Intl.NumberFormat('en', { maximumFractionDigits: 3 });

/** A value of a measure as people read it: shares in percent, ages in words, others as numbers. */
export function measureWords(measure: string, value: number): string {
  if (measure === 'age') return ageWords(value);
  if (/ share of /.test(measure)) return `${(value * 100).toFixed(value < 0.1 ? 2 : 1)} %`;
  return numbers.format(Number.isInteger(value) ? value : Number(value.toPrecision(5)));
}
