/**
 * Student's t distribution: P(|T| > t) with `freedom` degrees of freedom, by the regularised incomplete beta function
 * and its continued fraction (Lentz). Relative error below 1e-9 down to 1e-40.
 * @param freedom above 0, also fractions
 */
export function twoSided(t: number, freedom: number): number {
  const x = freedom / (freedom + t * t);
  return regularisedBeta(x, freedom / 2, 0.5);
}

function regularisedBeta(x: number, a: number, b: number): number {
  if (x <= 0) return 0;
  if (x >= 1) return 1;
  const front = Math.exp(logGamma(a + b) - logGamma(a) - logGamma(b) + a * Math.log(x) + b * Math.log1p(-x));
  // The fraction converges quickly on this side only.
  return x < (a + 1) / (a + b + 2) ? (front * fraction(x, a, b)) / a : 1 - (front * fraction(1 - x, b, a)) / b;
}

const TINY = 1e-300;
const PRECISE = 1e-12;

function fraction(x: number, a: number, b: number): number {
  let c = 1;
  let d = 1 / nonZero(1 - ((a + b) * x) / (a + 1));
  let h = d;
  for (let m = 1; m <= 500; m++) {
    for (const n of [
      (m * (b - m) * x) / ((a + 2 * m - 1) * (a + 2 * m)),
      (-(a + m) * (a + b + m) * x) / ((a + 2 * m) * (a + 2 * m + 1)),
    ]) {
      d = 1 / nonZero(1 + n * d);
      c = nonZero(1 + n / c);
      h *= d * c;
    }
    if (Math.abs(d * c - 1) < PRECISE) break;
  }
  return h;
}

const nonZero = (n: number) => (Math.abs(n) < TINY ? TINY : n);

/** Lanczos' approximation, g = 7, nine terms. */
const LANCZOS = [
  0.99999999999980993, 676.5203681218851, -1259.1392167224028, 771.32342877765313, -176.61502916214059,
  12.507343278686905, -0.13857109526572012, 9.9843695780195716e-6, 1.5056327351493116e-7,
] as const;

function logGamma(x: number): number {
  if (x < 0.5) return Math.log(Math.PI / Math.sin(Math.PI * x)) - logGamma(1 - x);
  const [first, ...rest] = LANCZOS;
  const y = x - 1;
  const sum = rest.reduce<number>((s, c, i) => s + c / (y + i + 1), first);
  const t = y + 7.5;
  return 0.5 * Math.log(2 * Math.PI) + (y + 0.5) * Math.log(t) - t + Math.log(sum);
}
