import type { Finding } from '../model/diagnostic.js';
import { nearest } from '../sql/nearest.js';

/** What is said about options, wherever they are written. */

/** `did you mean x?`, or what else helps. */
export const nearOr = (near: string | undefined, otherwise?: string): string | undefined =>
  near === undefined ? otherwise : `did you mean ${near}?`;

/** @param what whose option it would be, such as `a table` */
export function unknownOption(what: string, name: string, allowed: readonly string[]): Finding<'unknown-option'> {
  const near = nearest(name, allowed);
  return {
    code: 'unknown-option',
    message: `${what} has no option ${name}`,
    hint: nearOr(near),
    name,
    nearest: near,
  };
}

/** An option that cannot have its value. */
export const badOption = (option: string, problem: string, hint?: string): Finding<'bad-option'> => ({
  code: 'bad-option',
  message: `option ${option}: ${problem}`,
  hint,
  option,
});

export function notOneOf(value: string, choices: readonly string[]): string {
  const near = nearest(value, choices);
  return `${value} is not one of ${choices.join(', ')}${near === undefined ? '' : `; ${nearOr(near)!}`}`;
}
export const notAWholeNumber = (value: string) => `${value} is not a whole number`;
export const notAShare = (value: string) => `${value} is neither a count nor a percentage such as 0.5%`;
export const notALength = (value: string) => `${value} is not a length of time such as 26 hours`;
export const notAFixedLength = (value: string) => `${value} is not a fixed length of time such as 90 minutes`;
export const neitherLengthNorNumber = (value: string) =>
  `${value} is neither a length of time such as 3 days nor a number`;
