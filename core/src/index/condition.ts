import { mentionsIn } from './mentions.js';
import { parseSql } from '../sql/parser.js';
/** A condition as a text that can be parsed, where it is in it, its tree, and what it names. @throws where it is none */
export function readCondition(condition: string) {
  const head = 'select where (';
  const text = `${head}${condition}\n)`;
  const parsed = parseSql(text);
  const [statement] = parsed.statements;
  if (parsed.error || !statement) throw new Error(`${condition}: ${parsed.error?.message ?? 'no condition'}`);
  return {
    text,
    start: head.length,
    end: text.length - 1,
    node: statement.node,
    found: mentionsIn(parsed, statement.node),
  };
}

/** Whether a text may name functions of the project. */
export const namesFunctions = (text: string): boolean => /\bfunctions\b/i.test(text);
