import useMediaQuery from '@mui/material/useMediaQuery';
import { useTheme } from '@mui/material/styles';
import { Suspense, useState } from 'react';
import { Navigate, Outlet, useLocation, useParams } from 'react-router';

import { isSignedOut, type Site } from '../api/client';
import { writeTimesIn } from '../lib/format';
import { BottomBar, TopBar } from './Bars';
import { ConnectionBanner } from './ConnectionBanner';
import { Loaded } from './Loaded';
import { Navigation } from './Navigation';
import { Loading } from './parts';
import { later } from './later';
import { useSession, useSites } from './queries';
import { words } from './words';

const SignInAgain = later(() => import('../signin/SignInAgain').then((m) => m.SignInAgain));
const SideDrawer = later(() => import('./SideDrawer').then((m) => m.SideDrawer));
const AccountPage = later(() => import('../users/AccountPage').then((m) => m.AccountPage));

/** The frame around all pages; it lets nobody see them who is not signed in. */
export function Frame() {
  const session = useSession();
  const sites = useSites(session.isSuccess && !session.data.limited);
  const location = useLocation();
  const { site } = useParams();
  const ended = isSignedOut(session.error);
  if (ended && !session.data) {
    return <Navigate to="/sign-in" replace state={{ from: location.pathname + location.search }} />;
  }
  if (session.data?.limited) {
    return (
      <main>
        <Suspense fallback={<Loading />}>
          <AccountPage />
        </Suspense>
      </main>
    );
  }
  if (!sites.data) {
    const refetch = async () => {
      await session.refetch();
      return sites.refetch();
    };
    return (
      <Loaded title={words.airdrift} query={{ ...sites, error: session.error ?? sites.error, refetch }}>
        {() => null}
      </Loaded>
    );
  }
  const first = sites.data[0];
  if (site === undefined && location.pathname !== '/sites/new') {
    return <Navigate to={first ? `/sites/${first.id}` : '/sites/new'} replace />;
  }
  return (
    <>
      <Shell sites={sites.data} />
      {ended && session.data && (
        <Suspense fallback={null}>
          <SignInAgain user={session.data.user} />
        </Suspense>
      )}
    </>
  );
}

function Shell({ sites }: { sites: Site[] }) {
  const [open, setOpen] = useState(false);
  const theme = useTheme();
  const wide = useMediaQuery(theme.breakpoints.up('md'));
  const phone = useMediaQuery(theme.breakpoints.down('sm'));
  const { site } = useParams();
  const here = sites.find((s) => String(s.id) === site);
  writeTimesIn(here?.zone ?? '');
  return (
    <div className="shell">
      <a className="skip" href="#main">
        {words.skipToThePage}
      </a>
      <TopBar sites={sites} onMenu={() => setOpen(true)} showMenu={!wide && !phone} />
      {wide && (
        <div className="side">
          <Navigation />
        </div>
      )}
      {!wide && open && (
        <Suspense fallback={null}>
          <SideDrawer onClose={() => setOpen(false)} />
        </Suspense>
      )}
      <main id="main" tabIndex={-1} key={here?.zone}>
        <ConnectionBanner />
        <Suspense fallback={<Loading />}>
          <Outlet />
        </Suspense>
      </main>
      {phone && here && <BottomBar site={here.id} onMenu={() => setOpen(true)} />}
    </div>
  );
}
