/** @jest-environment <rootDir>/jest.environment.mjs */
import { beforeEach, describe, expect, test } from '@jest/globals';
import { waitFor } from '@testing-library/react';
import type { DraftEntry, FilesAnswer } from '@ouvrage/api/project';
import { serve, type Sent } from '../testing';

const { api } = await import('./api');
const { store } = await import('./store');
const { workspacesApi } = await import('./workspaces');
const { files, keepDraft, dropDraft } = workspacesApi.endpoints;

const draft = (path: string, version: number, text: string | null = 'select 2'): DraftEntry => ({
  path,
  text,
  version,
  by: 'Jonas',
  at: '2026-01-01T00:00:00Z',
  isNew: false,
});
const answer = (of: Partial<FilesAnswer> = {}): FilesAnswer => ({
  project: 'p',
  slug: 'dues',
  name: 'Dues',
  keptBy: null,
  commit: 'a'.repeat(40),
  since: null,
  files: { 'core/a.sql': 'select 1', 'core/b.sql': 'select 1' },
  drafts: [],
  ...of,
});
const kept = () => files.select('dues')(store.getState()).data!;
const read = async (forceRefetch = false) => void (await store.dispatch(files.initiate('dues', { forceRefetch })));

beforeEach(() => void store.dispatch(api.util.resetApiState()));

describe('files of a workspace', () => {
  test('are asked for from the commit that is known, and what has changed since is put into them', async () => {
    const sent = serve({
      'GET workspaces/dues/files': answer(),
      [`GET workspaces/dues/files?since=${'a'.repeat(40)}`]: answer({
        commit: 'b'.repeat(40),
        since: 'a'.repeat(40),
        files: { 'core/a.sql': null, 'core/c.sql': 'select 3' },
      }),
    });
    await read();
    await read(true);
    expect(sent.read.map((s) => s.path)).toEqual([
      'workspaces/dues/files',
      `workspaces/dues/files?since=${'a'.repeat(40)}`,
    ]);
    expect(kept()).toMatchObject({
      commit: 'b'.repeat(40),
      files: { 'core/b.sql': 'select 1', 'core/c.sql': 'select 3' },
    });
    expect(Object.keys(kept().files)).toHaveLength(2);
  });

  test('are taken whole where the server does not know that commit', async () => {
    let asked = 0;
    serve({
      'GET workspaces/dues/files': () =>
        asked++ === 0 ? answer() : answer({ commit: 'c'.repeat(40), files: { 'core/z.sql': 'select 9' } }),
    });
    await read();
    await read(true);
    expect(kept().files).toEqual({ 'core/z.sql': 'select 9' });
  });

  test('that have not changed are the same object, so that nothing is read again', async () => {
    let asked = 0;
    serve({ 'GET workspaces/dues/files': () => answer(asked++ === 0 ? {} : { since: 'a'.repeat(40), files: {} }) });
    await read();
    const before = kept().files;
    await read(true);
    expect(kept().files).toBe(before);
  });

  test('hold a saved draft at once: what is saved next is saved over it; what others saved is asked for, without files that are known', async () => {
    let drafts = [draft('core/b.sql', 4)];
    const sent = serve({
      'GET workspaces/dues/files': ({ path }: Sent) =>
        answer({ drafts, ...(path.includes('since=') ? { since: 'a'.repeat(40), files: {} } : {}) }),
      'PUT workspaces/dues/drafts': ({ body }: Sent) => {
        const { path, text, version } = body as { path: string; text: string; version: number };
        const saved = draft(path, version + 1, text);
        drafts = [saved, ...drafts, draft('core/c.sql', 7)];
        return saved;
      },
      'DELETE workspaces/dues/drafts': () => void (drafts = drafts.filter((d) => d.path !== 'core/b.sql')),
    });
    const versions = () => kept().drafts.map((d) => `${d.path} ${d.version}`);
    await read();
    const before = kept().files;
    await store.dispatch(keepDraft.initiate({ slug: 'dues', path: 'core/a.sql', text: 'select 5', version: 0 }));
    expect(versions()).toContain('core/a.sql 1');
    // Somebody else saved another file meanwhile.
    await waitFor(() => expect(versions()).toEqual(['core/a.sql 1', 'core/b.sql 4', 'core/c.sql 7']));
    await store.dispatch(dropDraft.initiate({ slug: 'dues', path: 'core/b.sql' }));
    expect(versions()).not.toContain('core/b.sql 4');
    expect(kept().files).toBe(before);
    expect(sent.read.filter((s) => s.path.endsWith('/files'))).toHaveLength(1);
  });
});
