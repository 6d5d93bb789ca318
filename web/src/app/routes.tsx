import { lazy, Suspense, useEffect } from 'react';
import { createBrowserRouter, Navigate, Outlet, useLocation, useNavigate, useRouteError } from 'react-router';
import { ChooseByLink, ChooseOwn, FirstStart } from '../places/first-password';
import { SignIn } from '../places/sign-in';
import { ProblemNote } from '../shared/ui/problem-note';
import { Loading } from '../shared/ui/loading';
import { Empty } from '../shared/ui/empty';
import { Button } from '../shared/ui/button';
import { useSessionQuery } from '../data/people';
import { useWorkspacesQuery } from '../data/workspaces';
import { PRODUCTION, usePerson } from '../data/person';
import { useAppSelector } from '../data/store';
import type { ProblemBody } from '@ouvrage/api/problem';

const Workspace = lazy(() => import('./workspace'));
const Today = lazy(() => import('../places/today/today'));
const Sources = lazy(() => import('../places/sources/sources'));
const Tables = lazy(() => import('../places/tables/tables'));
const Starters = lazy(() => import('../places/starters/starters'));
const Lineage = lazy(() => import('../places/lineage/lineage'));
const Quality = lazy(() => import('../places/quality/quality'));
const Incidents = lazy(() => import('../places/incidents/incidents'));
const Jobs = lazy(() => import('../places/runs/jobs'));
const Runs = lazy(() => import('../places/runs/runs'));
const Releases = lazy(() => import('../places/releases/releases'));
const Settings = lazy(() => import('../places/settings/settings'));

function useTheme(): void {
  const theme = useAppSelector((s) => s.interface.theme);
  useEffect(() => {
    document.documentElement.dataset['theme'] = theme;
    localStorage.setItem('theme', theme);
  }, [theme]);
}

function Root() {
  useTheme();
  const { data, error, isLoading, refetch } = useSessionQuery();
  if (isLoading) return <Loading what="Opening Ouvrage" />;
  if (error) return <ProblemNote problem={error as ProblemBody} again={() => void refetch()} />;
  if (data?.person) return data.mustChange ? <ChooseOwn /> : <Outlet />;
  return data?.needsSetup ? <FirstStart /> : <SignIn />;
}

/** What a link leads to: the secret stands behind the sign that no browser sends to a server. */
function Welcome() {
  useTheme();
  const navigate = useNavigate();
  const { hash } = useLocation();
  return <ChooseByLink key={hash} link={hash.slice(1)} onDone={() => void navigate('/', { replace: true })} />;
}

/** The first workspace that is the person's own, or production. */
function Home() {
  const person = usePerson();
  const { data, isLoading } = useWorkspacesQuery();
  if (isLoading) return <Loading what="Opening your workspace" />;
  const own = data?.find((w) => w.owner === person.displayName) ?? (person.role === 'viewer' ? undefined : data?.[0]);
  return <Navigate replace to={`/w/${own?.slug ?? PRODUCTION}/today`} />;
}

function NotThere() {
  return (
    <Empty title="Page not found">
      <a className="text-plan underline" href="/">
        Go to Today
      </a>
    </Empty>
  );
}

function Crashed() {
  const error = useRouteError();
  return (
    <Empty title="This page could not be displayed">
      <p className="font-mono text-small">{error instanceof Error ? error.message : String(error)}</p>
      <Button onClick={() => location.reload()}>Reload</Button>
    </Empty>
  );
}

const shown = (Place: React.ComponentType, what: string) => (
  <Suspense fallback={<Loading what={what} />}>
    <Place />
  </Suspense>
);

export const router = createBrowserRouter([
  { path: 'welcome', element: <Welcome />, errorElement: <Crashed /> },
  {
    element: <Root />,
    errorElement: <Crashed />,
    children: [
      { index: true, element: <Home /> },
      {
        path: 'w/:ws',
        element: shown(Workspace, 'Opening the workspace'),
        children: [
          { index: true, element: <Navigate replace to="today" /> },
          { path: 'today', element: shown(Today, 'Opening Today') },
          { path: 'sources', element: shown(Sources, 'Opening Sources') },
          { path: 'tables/:table?/:facet?', element: shown(Tables, 'Opening Tables') },
          { path: 'new/:starter?', element: shown(Starters, 'Opening the starters') },
          { path: 'files/*', element: shown(Tables, 'Opening the file') },
          { path: 'lineage', element: shown(Lineage, 'Opening Lineage') },
          { path: 'quality/*', element: shown(Quality, 'Opening Quality') },
          { path: 'incidents/:id?', element: shown(Incidents, 'Opening incidents') },
          { path: 'runs/jobs/:job?', element: shown(Jobs, 'Opening Jobs') },
          { path: 'runs/:run?/:step?', element: shown(Runs, 'Opening Runs') },
          { path: 'releases', element: shown(Releases, 'Opening Releases') },
          { path: 'settings/:section?', element: shown(Settings, 'Opening Settings') },
          { path: '*', element: <NotThere /> },
        ],
      },
      { path: '*', element: <NotThere /> },
    ],
  },
]);
