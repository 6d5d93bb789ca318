/** The line that releases move, beside workspaces. */
export const PRODUCTION = 'production';
export const MAIN = 'refs/heads/main';
/** The branch of a workspace, or of production. */
export const branchOf = (slug: string) => (slug === PRODUCTION ? MAIN : `refs/heads/workspace/${slug}`);
