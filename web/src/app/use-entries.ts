import type { Entry, EntryGroup } from './entry';
import { address, PLACES } from '../data/addresses';

import { useAppSelector, useAppDispatch, themeChosen } from '../data/store';
import { useNavigate } from 'react-router';
import { useRunsQuery } from '../data/runs';

import type { Found, FoundKind } from '@ouvrage/core/assist';
import { useEffect, useMemo, useState } from 'react';
import { placeAddress, useProject } from '../data/project';
import { projectWorker } from '../worker/client';

export function useEntries(): Entry[] {
  const { slug, summary, checks, paths } = useProject();
  const { data: runs = [] } = useRunsQuery(slug);
  const navigate = useNavigate();
  const theme = useAppSelector((s) => s.interface.theme);
  const dispatch = useAppDispatch();
  return useMemo(() => {
    const layer = new Map(summary.layers.map((l, i) => [l.name, i]));
    const go = (to: string) => () => void navigate(to);
    return [
      ...summary.tables.map((t): Entry => ({
        key: `t ${t.fullName}`,
        group: 'Tables',
        label: t.fullName,
        aside: t.comment,
        layer: layer.get(t.layer) ?? 0,
        act: go(address.table(slug, t.fullName)),
      })),
      ...PLACES.map(([place, label]): Entry => ({
        key: `p ${place}`,
        group: 'Commands',
        label: `Go to ${label}`,
        act: go(address.place(slug, place)),
      })),
      {
        key: 'p starters',
        group: 'Commands',
        label: 'Start a definition with a starter',
        act: go(address.starter(slug)),
      },
      { key: 'p settings', group: 'Commands', label: 'Go to Settings', act: go(address.place(slug, 'settings')) },
      {
        key: 'c theme',
        group: 'Commands',
        label: theme === 'paper' ? 'Use the blueprint (dark) theme' : 'Use the paper (light) theme',
        act: () => dispatch(themeChosen(theme === 'paper' ? 'blueprint' : 'paper')),
      },
      ...checks.map((c): Entry => ({
        key: `k ${c.id}`,
        group: 'Checks',
        label: c.title,
        aside: c.table,
        verdict: c.verdict,
        act: go(address.check(slug, c.id)),
      })),
      ...summary.tables.flatMap((t) =>
        (t.columns ?? []).map((c): Entry => ({
          key: `f ${t.fullName}.${c.name}`,
          group: 'Columns',
          label: `${t.fullName}.${c.name}`,
          aside: c.type,
          act: go(address.table(slug, t.fullName)),
        })),
      ),
      ...runs.slice(0, 50).map((r): Entry => ({
        key: `r ${r.id}`,
        group: 'Runs',
        label: `Run ${r.id}, ${r.kind}`,
        aside: r.state,
        act: go(address.run(slug, r.id)),
      })),
      ...paths.map((path): Entry => ({
        key: `d ${path}`,
        group: 'Files',
        label: path,
        act: go(address.file(slug, path)),
      })),
    ];
  }, [slug, summary, checks, paths, runs, navigate, theme, dispatch]);
}

const GROUP_OF: Readonly<Record<FoundKind, EntryGroup>> = {
  description: 'Descriptions',
  owner: 'Owners',
  note: 'Notes',
  text: 'SQL',
};

/** What descriptions, owners, notes and texts have of a search; that of the search before until the new one is known. */
export function useFound(text: string): Entry[] {
  const project = useProject();
  const navigate = useNavigate();
  const [found, setFound] = useState<readonly Found[]>([]);
  useEffect(() => {
    let current = true;
    projectWorker.ask<'find'>({ kind: 'find', search: text }).then(
      (answer) => current && setFound(answer),
      // Names are found without it.
      () => current && setFound([]),
    );
    return () => {
      current = false;
    };
  }, [text]);
  return useMemo(
    () =>
      found.map((f) => ({
        key: `${f.kind} ${f.of} ${f.line}`,
        group: GROUP_OF[f.kind],
        label: f.of,
        around: f.around,
        act: () => void navigate(placeAddress(project, f)),
      })),
    [found, project, navigate],
  );
}
