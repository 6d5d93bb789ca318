/** The longest path of a project's file, in characters. */
export const LONGEST_PATH = 300;

const SEGMENT = /^[\w -][\w .-]*$/;
/** Git treats these as its own folder in some file systems. */
const GIT_FOLDER = /^(\.git|git~\d+)$/i;

/**
 * The one form in which a file of the project is named: folders and a name, joined by single slashes.
 * @returns what is wrong with a path, with the remedy; undefined where it has this form
 */
export function pathProblem(path: string): string | undefined {
  if (path.length > LONGEST_PATH) return `the path has ${path.length} characters; ${LONGEST_PATH} are the most`;
  const segments = path.split('/');
  if (path.startsWith('/') || segments.includes('')) {
    const meant = segments.filter((s) => s !== '').join('/');
    return `a path begins with a folder or a file and has single slashes${meant ? `: write ${meant}` : ''}`;
  }
  if (segments.some((s) => s === '.' || s === '..'))
    return 'a path has no . or .. in it: write it from the top of the project';
  const odd = segments.find((s) => !SEGMENT.test(s));
  if (odd !== undefined)
    return `“${printable(odd)}” has characters that a path cannot have: use letters, digits, spaces, hyphens, underscores and dots inside`;
  if (!/\.(sql|csv|md)$/.test(path))
    return 'the path must be a .sql, .csv or .md file of the project, such as staging/berth.sql';
  return undefined;
}

/**
 * What is wrong with an entry of a tree that someone pushed: it is read from git and written to people's disks.
 * @param mode git's mode, `100644`
 */
export function treeEntryProblem(mode: string, path: string): string | undefined {
  const shown = printable(path);
  if (mode === '120000') return `${shown} is a symbolic link; a project holds plain files only`;
  if (mode === '160000') return `${shown} is a submodule; a project holds plain files only`;
  const segments = path.split('/');
  if (segments.includes('')) return `${shown} has an empty folder name: an absolute path or a doubled slash`;
  if (segments.some((s) => s === '.' || s === '..')) return `${shown} has . or .. as a folder`;
  if (segments.some((s) => GIT_FOLDER.test(s))) return `${shown} has .git as a folder`;
  if (CONTROL.test(path)) return `${shown} has control characters in its name`;
  return undefined;
}

const CONTROL = /[\u0000-\u001f\u007f]/;
const printable = (text: string): string =>
  [...text]
    .map((c) => (CONTROL.test(c) ? '�' : c))
    .join('')
    .slice(0, 200);
