/** The line that releases move, beside workspaces. */
export const PRODUCTION = 'production';
export const MAIN = 'refs/heads/main';
/** What the names of all workspaces' branches begin with. */
export const WORKSPACE_BRANCHES = 'refs/heads/workspace/';
/** The branch of a workspace, or of production. */
export const branchOf = (slug: string) => (slug === PRODUCTION ? MAIN : `${WORKSPACE_BRANCHES}${slug}`);
