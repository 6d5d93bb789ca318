import { expect, test } from '@jest/globals';
import { pathProblem, treeEntryProblem } from './paths.js';

test.each([
  ['staging/berth.sql'],
  ['layers.sql'],
  ['staging/a b/c-d_e.2.sql'],
  ['reference/flag.csv'],
  ['docs/notes.md'],
])('%s is a path', (path) => expect(pathProblem(path)).toBeUndefined());

test.each([
  ['absolute', '/staging/a.sql', /write staging\/a\.sql/],
  ['a doubled slash', 'staging//a.sql', /write staging\/a\.sql/],
  ['a slash at the end', 'staging/a.sql/', /write staging\/a\.sql/],
  ['only slashes', '//', /single slashes$/],
  ['a folder up', 'staging/../a.sql', /no \. or \.\./],
  ['the same folder', './a.sql', /no \. or \.\./],
  ['a hidden folder', '.git/a.sql', /characters/],
  ['a NUL', 'staging/a\u0000.sql', /characters/],
  ['a line break', 'staging/a\n.sql', /characters/],
  ['a backslash', 'staging\\a.sql', /characters/],
  ['another ending', 'staging/a.py', /\.sql, \.csv or \.md/],
  ['no ending', 'staging/a', /\.sql, \.csv or \.md/],
  ['too long', `${'a'.repeat(300)}.sql`, /300/],
])('a path with %s is refused with the remedy', (_, path, message) => expect(pathProblem(path)).toMatch(message));

test.each([
  ['a symbolic link', '120000', 'staging/a.sql', /symbolic link/],
  ['a submodule', '160000', 'staging', /submodule/],
  ['a folder up', '100644', 'a/../b.sql', /\.\. as a folder/],
  ['git’s own folder', '100644', 'a/.GIT/config', /\.git as a folder/],
  ['its short name', '100644', 'GIT~1/config', /\.git as a folder/],
  ['an absolute path', '100644', '/a.sql', /empty folder name/],
  ['a doubled slash', '100644', 'a//b.sql', /empty folder name/],
  ['a line break', '100644', 'a\nb.sql', /control characters/],
])('a tree with %s is refused', (_, mode, path, message) => expect(treeEntryProblem(mode, path)).toMatch(message));

test.each([['100644'], ['100755']])('a plain file of mode %s is taken, whatever its ending', (mode) =>
  expect(treeEntryProblem(mode, 'tools/.editorconfig')).toBeUndefined(),
);
