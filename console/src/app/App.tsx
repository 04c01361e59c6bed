import { ThemeProvider } from '@mui/material/styles';
import { QueryCache, QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { Suspense, useEffect } from 'react';
import { BrowserRouter, Navigate, Route, Routes } from 'react-router';

import { isSignedOut, mayPass } from '../api/client';
import { keys } from './keys';
import { OverviewPage } from '../overview/OverviewPage';
import { ErrorBoundary } from './ErrorBoundary';
import { Frame } from './Frame';
import { later, loadEarly, loadRest } from './later';
import { Loading } from './parts';
import { askEarly } from './queries';
import { theme } from './theme';

/** How long after the start the rest of the code is loaded, in milliseconds. */
const restAfter = 3000;

const AccountPage = later(() => import('../users/AccountPage').then((m) => m.AccountPage), 'account');
const UsersPage = later(() => import('../users/UsersPage').then((m) => m.UsersPage), 'users');
const ChangesPage = later(() => import('../changes/ChangesPage').then((m) => m.ChangesPage), 'changes');
const CredentialsPage = later(() => import('../credentials/CredentialsPage').then((m) => m.CredentialsPage), 'credentials');
const RulesPage = later(() => import('../rules/RulesPage').then((m) => m.RulesPage), 'rules');
const DevicePage = later(() => import('../devices/DevicePage').then((m) => m.DevicePage), 'devices');
const DevicesPage = later(() => import('../devices/DevicesPage').then((m) => m.DevicesPage), 'devices');
const FencePage = later(() => import('../fence/FencePage').then((m) => m.FencePage), 'fence');
const FootingPage = later(() => import('../footing/FootingPage').then((m) => m.FootingPage), 'footing');
const FindingsPage = later(() => import('../findings/FindingsPage').then((m) => m.FindingsPage), 'findings');
const AddressesPage = later(() => import('../overview/AddressesPage').then((m) => m.AddressesPage), 'addresses');
const DriftPage = later(() => import('../drift/DriftPage').then((m) => m.DriftPage), 'drift');
const ReportPage = later(() => import('../report/ReportPage').then((m) => m.ReportPage), 'report');
const CompletenessPage = later(() => import('../report/CompletenessPage').then((m) => m.CompletenessPage), 'completeness');
const FirmwarePage = later(() => import('../judging/FirmwarePage').then((m) => m.FirmwarePage), 'firmware');
const OpennessPage = later(() => import('../judging/OpennessPage').then((m) => m.OpennessPage), 'openness');
const ResponseTimesPage = later(() => import('../judging/ResponseTimesPage').then((m) => m.ResponseTimesPage), 'response-times');
const RegisterPage = later(() => import('../register/RegisterPage').then((m) => m.RegisterPage), 'register');
const FirstSitePage = later(() => import('../sites/FirstSitePage').then((m) => m.FirstSitePage), 'new');
const SignInPage = later(() => import('../signin/SignInPage').then((m) => m.SignInPage), 'sign-in');
const SweepPage = later(() => import('../sweeps/SweepPage').then((m) => m.SweepPage), 'sweeps');
const SweepsPage = later(() => import('../sweeps/SweepsPage').then((m) => m.SweepsPage), 'sweeps');

/** Whether a failure may pass by itself; what the service refuses, it refuses again. */

const queries: QueryClient = new QueryClient({
  queryCache: new QueryCache({
    // A session that has run out anywhere shows the sign-in everywhere.
    onError: (failure, query) => {
      if (isSignedOut(failure) && query.queryKey[0] !== 'session') void queries.invalidateQueries({ queryKey: keys.session });
    },
  }),
  defaultOptions: {
    queries: { retry: (failures, failure) => failures < 2 && mayPass(failure), staleTime: 2000 },
  },
});

/** Asks for the data and the code of the page that the address names, all at once and before anything is drawn; done when the data have come, or failed. */
export async function begin() {
  const [, part = '', site, page = ''] = window.location.pathname.split('/');
  const at = part === 'sites' ? page : part;
  loadEarly(at);
  if (part === 'sites') await askEarly(queries, at === '' && Number(site) > 0 ? Number(site) : undefined);
}

/** The console. */
export function App() {
  useEffect(() => {
    const timer = setTimeout(() => void loadRest(), restAfter);
    return () => clearTimeout(timer);
  }, []);
  return (
    <ThemeProvider theme={theme} defaultMode="system">
      <QueryClientProvider client={queries}>
        <BrowserRouter>
          <ErrorBoundary>
            <Routes>
              <Route
                path="/sign-in"
                element={
                  <Suspense fallback={<Loading />}>
                    <SignInPage />
                  </Suspense>
                }
              />
              <Route path="/" element={<Frame />}>
                <Route path="sites/new" element={<FirstSitePage />} />
                <Route path="sites/:site" element={<OverviewPage />} />
                <Route path="sites/:site/devices" element={<DevicesPage />} />
                <Route path="sites/:site/devices/:device" element={<DevicePage />} />
                <Route path="sites/:site/sweeps" element={<SweepsPage />} />
                <Route path="sites/:site/sweeps/:sweep" element={<SweepPage />} />
                <Route path="sites/:site/changes" element={<ChangesPage />} />
                <Route path="sites/:site/response-times" element={<ResponseTimesPage />} />
                <Route path="sites/:site/findings" element={<FindingsPage />} />
                <Route path="sites/:site/addresses" element={<AddressesPage />} />
                <Route path="sites/:site/drift" element={<DriftPage />} />
                <Route path="sites/:site/report" element={<ReportPage />} />
                <Route path="sites/:site/completeness" element={<CompletenessPage />} />
                <Route path="sites/:site/openness" element={<OpennessPage />} />
                <Route path="sites/:site/firmware" element={<FirmwarePage />} />
                <Route path="sites/:site/register" element={<RegisterPage />} />
                <Route path="sites/:site/fence" element={<FencePage />} />
                <Route path="sites/:site/footing" element={<FootingPage />} />
                <Route path="sites/:site/credentials" element={<CredentialsPage />} />
                <Route path="sites/:site/rules" element={<RulesPage />} />
                <Route path="sites/:site/users" element={<UsersPage />} />
                <Route path="sites/:site/account" element={<AccountPage />} />
              </Route>
              <Route path="*" element={<Navigate to="/" replace />} />
            </Routes>
          </ErrorBoundary>
        </BrowserRouter>
      </QueryClientProvider>
    </ThemeProvider>
  );
}
