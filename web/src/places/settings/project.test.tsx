/** @jest-environment <rootDir>/jest.environment.mjs */
import { afterEach, expect, test } from '@jest/globals';
import { cleanup, screen, waitFor, within } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { around, FILES, renderPlace, serve, type Sent } from '../../testing';

const { ProjectSettings } = await import('./project');
afterEach(cleanup);

const LAYERS =
  "create schema landing;\ncreate schema staging;\ncreate schema core;\ncomment on schema core is 'What is agreed.';\n";

/** A workspace that keeps what is saved. */
function keeping() {
  let draft: { path: string; text: string; version: number } | undefined;
  const files = () => ({
    ...(around()['GET workspaces/dues/files'] as object),
    files: { ...FILES, 'layers.sql': LAYERS, 'parameters.sql': "set param.region = 'north';" },
    drafts: draft ? [{ ...draft, by: 'Jonas', at: '2026-01-01T00:00:00Z', isNew: false }] : [],
  });
  const sent = serve({
    ...around(),
    'GET workspaces/dues/files': files,
    'PUT workspaces/dues/drafts': ({ body }: Sent) => {
      const { path, text, version } = body as { path: string; text: string; version: number };
      expect(version).toBe(draft?.version ?? 0);
      return {
        ...(draft = { path, text, version: version + 1 }),
        by: 'Jonas',
        at: '2026-01-01T00:00:00Z',
        isNew: false,
      };
    },
  });
  return { sent, text: () => draft?.text };
}

test('layers are moved up and down, one after the other, and the text is what it was', async () => {
  const { text } = keeping();
  await renderPlace(<ProjectSettings />);
  const button = async (name: string) => {
    await waitFor(() => expect((screen.getByRole('button', { name }) as HTMLButtonElement).disabled).toBe(false));
    return screen.getByRole('button', { name });
  };
  await userEvent.click(await button('Move core up'));
  await waitFor(() => expect(text()).toMatch(/landing;\s+create schema core;[\s\S]*create schema staging;/));
  await userEvent.click(await button('Move core down'));
  await waitFor(() => expect(text()).toMatch(/create schema staging;\s+create schema core;/));
  await waitFor(() =>
    expect((screen.getByRole('button', { name: 'Move core down' }) as HTMLButtonElement).disabled).toBe(true),
  );
  expect(text()!.match(/create schema/g)).toHaveLength(3);
});

test('parameters are listed with their defaults', async () => {
  keeping();
  await renderPlace(<ProjectSettings />);
  expect((await screen.findByText('param.region')).closest('li')!.textContent).toBe('param.regionnorthUsesRename');
});

test('a layer is renamed with all that names its tables, shown before it is saved', async () => {
  const { sent } = keeping();
  await renderPlace(<ProjectSettings />);
  const line = (await screen.findByText('staging')).closest('li')!;
  await userEvent.click(within(line).getByRole('button', { name: 'Rename' }));
  const dialog = await screen.findByRole('dialog', { name: 'Rename staging' });
  const name = within(dialog).getByLabelText('New name');
  await userEvent.clear(name);
  await userEvent.type(name, 'core');
  await userEvent.click(within(dialog).getByRole('button', { name: 'Show all uses' }));
  expect(await within(dialog).findByText('there is a layer core already')).toBeTruthy();
  await userEvent.clear(name);
  await userEvent.type(name, 'cleaned');
  await userEvent.click(within(dialog).getByRole('button', { name: 'Show all uses' }));
  expect(await within(dialog).findByText(/places? in \d files?\./)).toBeTruthy();
  for (const path of ['layers.sql', 'cleaned/berth.sql', 'core/dim_berth.sql'])
    expect(within(dialog).getByRole('button', { name: path })).toBeTruthy();
  expect(sent.changed).toEqual([]);
});

test('all uses of a parameter are listed', async () => {
  keeping();
  await renderPlace(<ProjectSettings />);
  const line = (await screen.findByText('param.region')).closest('li')!;
  await userEvent.click(within(line).getByRole('button', { name: 'Uses' }));
  const dialog = await screen.findByRole('dialog', { name: 'Uses of param.region' });
  expect(await within(dialog).findByText('parameters.sql:1')).toBeTruthy();
});
