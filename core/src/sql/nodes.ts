import type { Node } from 'libpg-query';

/** The texts of a list of names, `{ String: { sval } }` each; a star has none. */
export function strings(nodes: readonly Node[] | undefined): string[] {
  const found: string[] = [];
  // Called for every name of a project: no closure, no test of the node's kind before it is read.
  if (nodes)
    for (const node of nodes as readonly { readonly String?: { readonly sval?: string } }[])
      if (node.String) found.push(node.String.sval ?? '');
  return found;
}
