import { beforeAll, describe, expect, test } from '@jest/globals';
import type { Definition } from '../model/project.js';
import { loadParser } from '../sql/parser.js';
import { projectOf } from '../testing.js';
import { driftColumns, untypedDrift, withDrift } from './drift.js';

beforeAll(loadParser);

const of = (drift: string, query: string) => {
  const project = projectOf({
    'core/t.sql': `create table core.t (call_no text primary key) with (load = merge, business_key = 'call_no'${drift});\n${query};`,
  });
  return { project, table: project.tables.get('core.t') as Definition };
};
const QUERY = 'select call_no, tonnage::numeric(12,2) as tonnage, some_function(berth_code) as odd from landing.call';

describe('columns of a query that its contract lacks', () => {
  test.each([
    ['are taken over with drift = add', ', drift = add', ['tonnage', 'odd']],
    ['are not with drift = ignore', ', drift = ignore', []],
    ['are not where nothing is said', '', []],
  ])('%s', (_, drift, expected) => {
    const { project, table } = of(drift, QUERY);
    expect(driftColumns(project, table).map((c) => c.name)).toEqual(expected);
  });

  test('there are none of a table without a contract, or of a reference table', () => {
    const project = projectOf({ 'core/v.sql': 'select call_no, tonnage from landing.call;' });
    expect(driftColumns(project, project.tables.get('core.v') as Definition)).toEqual([]);
  });

  test('have the types that the project knows, and those that the database was asked for', () => {
    const { project, table } = of(', drift = add', QUERY);
    expect(untypedDrift(project, table)).toEqual(['odd']);
    const added = withDrift(project, table, new Map([['odd', 'integer']])).contract!.columns.slice(1);
    expect(added).toEqual([
      { name: 'tonnage', type: 'numeric(12,2)', notNull: false, options: {}, range: table.nameRange },
      { name: 'odd', type: 'integer', notNull: false, options: {}, range: table.nameRange },
    ]);
    expect(() => withDrift(project, table)).toThrow('core.t: the type of odd is not known');
  });

  test('a table without any stays the same object', () => {
    const { project, table } = of(', drift = add', 'select call_no from landing.call');
    expect(withDrift(project, table)).toBe(table);
  });
});
