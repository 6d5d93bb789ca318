/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, describe, expect, test } from '@jest/globals';
import type { ContractView } from '@ouvrage/core/assist';
import { loadParser } from '@ouvrage/core/sql';
import { cleanup, fireEvent, screen, waitFor } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { useEffect, useState } from 'react';
import { around, FILES, Problem, renderPlace, serve } from '../../testing';
import type { EditAnswer } from '../../worker/protocol';
import type { FileText } from './use-file-text';

const { ContractForm } = await import('./contract-form');
const { answer } = await import('../../worker/answer');
afterEach(cleanup);

const PATH = 'core/t.sql';
/** The form over a text, as the bench has it: what it changes is read again. */
function Bench({ first, onText }: { first: string; onText: (text: string) => void }) {
  const [text, setText] = useState(first);
  const [read, setRead] = useState<{ view: ContractView; diagnostics: EditAnswer['diagnostics'] }>();
  useEffect(() => {
    void loadParser().then(() => {
      void answer({ kind: 'open', files: { ...FILES, [PATH]: text } });
      const { contract, diagnostics } = answer({ kind: 'edit', path: PATH, text }) as EditAnswer & {
        contract: ContractView;
      };
      setRead({ view: contract, diagnostics });
    });
    onText(text);
  }, [text, onText]);
  const file = { text, setText, diagnostics: read?.diagnostics ?? [] } as unknown as FileText;
  return read ? <ContractForm path={PATH} file={file} view={read.view} /> : null;
}

const show = async (sql: string, answers: object = {}) => {
  serve({ ...around(), ...answers });
  let now = sql;
  const onText = (text: string) => void (now = text);
  await renderPlace(<Bench first={sql} onText={onText} />);
  return () => now;
};
const CONTRACT =
  "create table core.t (\n  berth_code text not null,\n  length_m numeric(6,1)\n) with (load = merge, business_key = 'berth_code');\n\nselect berth_code, length_m from landing.berth;\n";

test('a definition without a contract gets one from its query, with the types that the project knows', async () => {
  const text = await show('select berth_code, length_m from landing.berth;');
  await userEvent.click(await screen.findByRole('button', { name: 'Contract from the query' }));
  await waitFor(() =>
    expect(text()).toMatch(/create table core\.t \(\s+berth_code +text,\s+length_m +numeric\(6,1\)\s+\)/),
  );
  expect(await screen.findByText('Contract and query match.')).toBeTruthy();
});

describe('a contract that differs from its query says how, and follows it', () => {
  test.each<[string, string, string, RegExp]>([
    [
      'a column more',
      CONTRACT.replace('length_m from', 'length_m, berth_code as other from'),
      'The query also returns other.',
      /other +text/,
    ],
    [
      'a column less',
      CONTRACT.replace(', length_m from', ' from'),
      'The query does not return length_m.',
      /\(\s+berth_code text not null\s+\)/,
    ],
  ])('%s', async (_, sql, said, after) => {
    const text = await show(sql);
    expect(await screen.findByText(said)).toBeTruthy();
    await userEvent.click(screen.getByRole('button', { name: 'Update contract from query' }));
    await waitFor(() => expect(text()).toMatch(after));
    expect(await screen.findByText('Contract and query match.')).toBeTruthy();
  });
  test('a type that only the database knows is asked of it', async () => {
    const preview = { columns: [{ name: 'x', type: 'uuid' }], rows: [], isFull: false };
    const text = await show(CONTRACT.replace('length_m from', 'length_m, gen_random_uuid() as x from'), {
      'POST workspaces/dues/preview': preview,
    });
    await userEvent.click(await screen.findByRole('button', { name: 'Update contract from query' }));
    await waitFor(() => expect(text()).toMatch(/x +uuid/));
  });
  test('where the database does not answer, nothing changes and it is reported', async () => {
    const sql = CONTRACT.replace('length_m from', 'length_m, functions.unheard() as x from');
    const text = await show(sql, { 'POST workspaces/dues/preview': new Problem(503, 'The database does not answer') });
    await userEvent.click(await screen.findByRole('button', { name: 'Update contract from query' }));
    expect(await screen.findByText('The database does not answer')).toBeTruthy();
    expect(text()).toBe(sql);
  });
});

describe('what is changed in the form is changed in the text', () => {
  test('a new column, and a check of the table', async () => {
    const text = await show(CONTRACT);
    await userEvent.type(await screen.findByLabelText('Name of a new column'), 'depth_m');
    fireEvent.change(screen.getByLabelText('Type of a new column'), { target: { value: 'numeric(4,1)' } });
    await userEvent.click(screen.getByRole('button', { name: 'Add' }));
    await waitFor(() => expect(text()).toMatch(/depth_m +numeric\(4,1\)/));
    await userEvent.type(screen.getByLabelText('New check of the table'), 'unique (berth_code, length_m){Enter}');
    await waitFor(() => expect(text()).toMatch(/unique \(berth_code, length_m\)/));
    await userEvent.click(await screen.findByRole('button', { name: /^Remove t_berth_code/ }));
    await waitFor(() => expect(text()).not.toMatch(/unique/));
  });
  test('a syntax error is fixed in the text first', async () => {
    await show('select from where;');
    expect(await screen.findByText('Fix the syntax error to continue in the form.')).toBeTruthy();
  });
});
