import CssBaseline from '@mui/material/CssBaseline';
import { ThemeProvider } from '@mui/material/styles';
import { QueryCache, QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { BrowserRouter, Navigate, Route, Routes } from 'react-router';

import { isSignedOut } from '../api/client';
import { AccountPage } from '../users/AccountPage';
import { UsersPage } from '../users/UsersPage';
import { ChangesPage } from '../changes/ChangesPage';
import { CredentialsPage } from '../credentials/CredentialsPage';
import { RulesPage } from '../rules/RulesPage';
import { DevicePage } from '../devices/DevicePage';
import { DevicesPage } from '../devices/DevicesPage';
import { FencePage } from '../fence/FencePage';
import { FootingPage } from '../footing/FootingPage';
import { FirmwarePage } from '../judging/FirmwarePage';
import { OpennessPage } from '../judging/OpennessPage';
import { ResponseTimesPage } from '../judging/ResponseTimesPage';
import { OverviewPage } from '../overview/OverviewPage';
import { RegisterPage } from '../register/RegisterPage';
import { SignInPage } from '../signin/SignInPage';
import { FirstSitePage } from '../sites/FirstSitePage';
import { SweepPage } from '../sweeps/SweepPage';
import { SweepsPage } from '../sweeps/SweepsPage';
import { ErrorBoundary } from './ErrorBoundary';
import { Frame } from './Frame';
import { theme } from './theme';

const queries: QueryClient = new QueryClient({
  queryCache: new QueryCache({
    // A session that has run out anywhere shows the sign-in everywhere.
    onError: (failure, query) => {
      if (isSignedOut(failure) && query.queryKey[0] !== 'session') void queries.invalidateQueries({ queryKey: ['session'] });
    },
  }),
  defaultOptions: {
    queries: { retry: (failures, failure) => failures < 2 && !isSignedOut(failure), staleTime: 2000 },
  },
});

/** The console. */
export function App() {
  return (
    <ThemeProvider theme={theme} defaultMode="system">
      <CssBaseline />
      <QueryClientProvider client={queries}>
        <BrowserRouter>
          <ErrorBoundary>
            <Routes>
              <Route path="/sign-in" element={<SignInPage />} />
              <Route path="/" element={<Frame />}>
                <Route path="sites/new" element={<FirstSitePage />} />
                <Route path="sites/:site" element={<OverviewPage />} />
                <Route path="sites/:site/devices" element={<DevicesPage />} />
                <Route path="sites/:site/devices/:device" element={<DevicePage />} />
                <Route path="sites/:site/sweeps" element={<SweepsPage />} />
                <Route path="sites/:site/sweeps/:sweep" element={<SweepPage />} />
                <Route path="sites/:site/changes" element={<ChangesPage />} />
                <Route path="sites/:site/response-times" element={<ResponseTimesPage />} />
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
