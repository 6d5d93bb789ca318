import type { TodayAnswer } from '@ouvrage/api/release';
import type { WatchFinding } from '@ouvrage/api/watch';
import type { Verdict } from '@ouvrage/core/check';
import { useState } from 'react';
import { Link } from 'react-router';
import { address } from '../../data/addresses';
import { placeAddress, type ProjectView } from '../../data/project';
import { ageWords } from '@ouvrage/core/watch';
import { plural, rows, when } from '../../shared/format';
import { VerdictMark } from '../../shared/marks';
import { Button } from '../../shared/ui/button';
import { findingWords } from '../../shared/watch-words';

/** Something that needs a person. */
export interface Need {
  readonly key: string;
  readonly verdict: Verdict;
  /** What the mark says to those who do not see it. */
  readonly label: string;
  readonly title: string;
  readonly detail: string;
  readonly to: string;
  /** When it began, in words. */
  readonly since: string;
}

/** What needs a person, the most pressing first; a check or a source that an incident is about is that incident's. */
export function needsOf(data: TodayAnswer, findings: readonly WatchFinding[], project: ProjectView): readonly Need[] {
  const { slug } = project;
  const followed = new Set(data.incidents.flatMap((i) => i.subjects.map((s) => `${s.kind} ${s.subject}`)));
  const isFollowed = (kind: string, subject: string) => followed.has(`${kind} ${subject}`);
  return [
    ...data.incidents.map((i) => ({
      key: `incident ${i.id}`,
      verdict: i.severity === 'low' ? ('advisory' as const) : ('broken' as const),
      label: i.severity,
      title: `Incident ${i.id}: ${i.title}`,
      detail: `${i.severity}, ${i.lead ? `${i.lead.displayName} leads it` : 'nobody leads it yet'}`,
      to: address.incident(slug, i.id),
      since: `since ${when(i.since)}`,
    })),
    ...data.broken
      .filter((c) => !isFollowed('check', c.id))
      .map((c) => ({
        key: `check ${c.id}`,
        verdict: c.verdict,
        label: 'broken',
        title: `${c.table}: ${c.title}`,
        detail: `a check is broken, ${rows(c.atFault)} at fault`,
        to: address.check(slug, c.id),
        since: when(c.at),
      })),
    ...data.failedRuns.map((r) => ({
      key: `run ${r.id}`,
      verdict: 'broken' as const,
      label: r.state,
      title: `Run ${r.id} ${r.state === 'interrupted' ? 'was interrupted' : 'failed'}`,
      detail: `${r.kind} by ${r.person}${r.error ? `: ${r.error}` : ''}`,
      to: address.run(slug, r.id),
      since: when(r.finishedAt),
    })),
    ...data.failedFiles.map((f) => ({
      key: `file ${f.file} ${f.at}`,
      verdict: 'broken' as const,
      label: 'failed',
      title: `${f.file} failed`,
      detail: f.reason ?? 'it could not be loaded',
      to: address.place(slug, 'sources'),
      since: when(f.at),
    })),
    ...data.late
      .filter((l) => !isFollowed('source', l.table))
      .map((l) => {
        const source = data.sources.find((s) => s.table === l.table);
        return {
          key: `late ${l.table}`,
          verdict: 'advisory' as const,
          label: 'late',
          title: `${l.table} is late`,
          detail:
            source?.age === null || !source
              ? 'never brought in'
              : `newest row ${ageWords(source.age)} old, late after ${ageWords(source.allowed)}`,
          to: address.place(slug, 'sources'),
          since: l.since ? when(l.since) : '',
        };
      }),
    ...findings
      .filter((f) => !isFollowed('measure', `${f.table}/${f.measure}`))
      .map((f) => ({
        key: `measure ${f.table} ${f.measure}`,
        verdict: 'advisory' as const,
        label: 'unusual',
        title: `${f.table} is unusual`,
        detail: findingWords(f),
        to: address.watch(slug, f),
        since: when(f.at),
      })),
    ...data.drifted.map((table) => ({
      key: `drift ${table}`,
      verdict: 'advisory' as const,
      label: 'drifted',
      title: `${table} has drifted`,
      detail: 'its columns differ from the declaration',
      to: address.place(slug, 'sources'),
      since: '',
    })),
    ...data.reviews.map((r) => ({
      key: `review ${r.slug}`,
      verdict: 'not run' as const,
      label: 'to review',
      title: `${r.name} waits for your approval`,
      detail: `${r.by} asks for it`,
      to: address.review(r.slug),
      since: when(r.at),
    })),
    ...data.toBind.map((s) => ({
      key: `server ${s.server}`,
      verdict: 'not run' as const,
      label: 'not bound',
      title: `${s.server} is not bound to a connection`,
      detail: `declared in ${s.workspaces.join(', ')}`,
      to: address.place(slug, 'settings/connections'),
      since: '',
    })),
    ...brokenFiles(data, project),
  ];
}

/** Errors by file; a file that somebody has drafted is their draft. */
function brokenFiles({ errors, drafts }: TodayAnswer, project: ProjectView): Need[] {
  return [...new Set(errors.map((e) => e.path))].map((path) => {
    const own = errors.filter((e) => e.path === path);
    const draft = drafts.find((d) => d.path === path);
    return {
      key: `errors ${path}`,
      verdict: 'not run',
      label: 'errors',
      title: `${draft ? 'The draft of ' : ''}${path} has ${plural(own.length, 'error')}`,
      detail: `line ${own[0]!.line}: ${own[0]!.message}`,
      to: placeAddress(project, own[0]!),
      since: draft ? when(draft.at) : '',
    };
  });
}

/** Needs that are listed before one asks for more. */
const SHOWN = 12;

/** What needs a person, each with where it leads. */
export function NeedList({ needs }: { needs: readonly Need[] }) {
  const [isWhole, setWhole] = useState(false);
  if (needs.length === 0) return null;
  return (
    <div>
      <ul aria-label="What needs you">
        {(isWhole ? needs : needs.slice(0, SHOWN)).map((n) => (
          <li key={n.key} className="border-b border-line">
            <Link to={n.to} className="grid grid-cols-[auto_minmax(0,1fr)_auto] gap-x-3 px-1 py-2.5 hover:bg-wash">
              <span className="pt-1">
                <VerdictMark verdict={n.verdict} label={n.label} />
              </span>
              <span className="min-w-0">
                <span className="block truncate text-lead font-medium" title={n.title}>
                  {n.title}
                </span>
                <span className="block truncate text-soft" title={n.detail}>
                  {n.detail}
                </span>
              </span>
              <span className="pt-0.5 font-mono text-small text-soft">{n.since}</span>
            </Link>
          </li>
        ))}
      </ul>
      {needs.length > SHOWN && !isWhole && (
        <Button tone="quiet" onClick={() => setWhole(true)}>
          Show the other {needs.length - SHOWN}
        </Button>
      )}
    </div>
  );
}
