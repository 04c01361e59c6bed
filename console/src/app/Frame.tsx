import DarkModeIcon from '@mui/icons-material/DarkModeOutlined';
import ChangesIcon from '@mui/icons-material/CompareArrowsOutlined';
import DevicesIcon from '@mui/icons-material/DevicesOtherOutlined';
import LightModeIcon from '@mui/icons-material/LightModeOutlined';
import FenceIcon from '@mui/icons-material/FenceOutlined';
import FootingIcon from '@mui/icons-material/CableOutlined';
import KeyIcon from '@mui/icons-material/KeyOutlined';
import LogoutIcon from '@mui/icons-material/LogoutOutlined';
import MenuIcon from '@mui/icons-material/MenuOutlined';
import OverviewIcon from '@mui/icons-material/SpaceDashboardOutlined';
import TimesIcon from '@mui/icons-material/SpeedOutlined';
import OpennessIcon from '@mui/icons-material/LockOpenOutlined';
import FirmwareIcon from '@mui/icons-material/MemoryOutlined';
import RegisterIcon from '@mui/icons-material/FactCheckOutlined';
import AccountIcon from '@mui/icons-material/AccountCircleOutlined';
import RuleIcon from '@mui/icons-material/RuleOutlined';
import SweepIcon from '@mui/icons-material/TravelExploreOutlined';
import UsersIcon from '@mui/icons-material/PeopleOutlineOutlined';
import {
  AppBar, Box, Drawer, IconButton, Link as TextLink, List, ListItem, ListItemButton, ListItemIcon, ListItemText, MenuItem, Select, Toolbar, Tooltip, Typography, useMediaQuery,
} from '@mui/material';
import { useColorScheme, useTheme } from '@mui/material/styles';
import { useQueryClient } from '@tanstack/react-query';
import { useState, type ReactNode } from 'react';
import { NavLink, Navigate, Outlet, useLocation, useNavigate, useParams } from 'react-router';

import { answer, api, isSignedOut, type Site } from '../api/client';
import { AccountPage } from '../users/AccountPage';
import { Failure, Loading, Page } from './parts';
import { useMay, useSession, useSites, type Role } from './queries';

const drawerWidth = 228;

const pages: { path: string; label: string; icon: ReactNode; role?: Role }[] = [
  { path: '', label: 'Overview', icon: <OverviewIcon /> },
  { path: '/devices', label: 'Devices', icon: <DevicesIcon /> },
  { path: '/sweeps', label: 'Sweeps', icon: <SweepIcon /> },
  { path: '/changes', label: 'Changes', icon: <ChangesIcon /> },
  { path: '/response-times', label: 'Response times', icon: <TimesIcon /> },
  { path: '/openness', label: 'Openness', icon: <OpennessIcon /> },
  { path: '/firmware', label: 'Firmware', icon: <FirmwareIcon /> },
  { path: '/register', label: 'Register', icon: <RegisterIcon /> },
  { path: '/fence', label: 'Fence', icon: <FenceIcon /> },
  { path: '/footing', label: 'Footing', icon: <FootingIcon /> },
  { path: '/credentials', label: 'Credentials', icon: <KeyIcon /> },
  { path: '/rules', label: 'Rules', icon: <RuleIcon /> },
  { path: '/users', label: 'Users', icon: <UsersIcon />, role: 'administer' },
];

/** The frame around all pages; it lets nobody see them who is not signed in. */
export function Frame() {
  const session = useSession();
  const sites = useSites(session.isSuccess && !session.data.limited);
  const location = useLocation();
  const { site } = useParams();
  if (isSignedOut(session.error)) {
    return <Navigate to="/sign-in" replace state={{ from: location.pathname + location.search }} />;
  }
  if (session.data?.limited) {
    return (
      <Box component="main">
        <AccountPage />
      </Box>
    );
  }
  const failure = session.error ?? sites.error;
  if (failure) {
    return (
      <Page title="Airdrift">
        <Failure failure={failure} />
      </Page>
    );
  }
  if (!sites.data) return <Loading />;
  const first = sites.data[0];
  if (site === undefined && location.pathname !== '/sites/new') {
    return <Navigate to={first ? `/sites/${first.id}` : '/sites/new'} replace />;
  }
  return <Shell sites={sites.data} />;
}

function Shell({ sites }: { sites: Site[] }) {
  const [open, setOpen] = useState(false);
  const theme = useTheme();
  const wide = useMediaQuery(theme.breakpoints.up('md'));
  return (
    <Box sx={{ display: 'flex', minHeight: '100vh' }}>
      <TextLink href="#main" sx={{ position: 'absolute', left: -9999, '&:focus': { left: 8, top: 8, zIndex: 2000, bgcolor: 'background.paper', p: 1 } }}>
        Skip to the page
      </TextLink>
      <TopBar sites={sites} onMenu={() => setOpen(true)} showMenu={!wide} />
      <Drawer
        variant={wide ? 'permanent' : 'temporary'}
        open={wide || open}
        onClose={() => setOpen(false)}
        sx={{ width: wide ? drawerWidth : 0, '& .MuiDrawer-paper': { width: drawerWidth, boxSizing: 'border-box' } }}
      >
        <Toolbar variant="dense" />
        <Navigation onNavigate={() => setOpen(false)} />
      </Drawer>
      <Box component="main" id="main" tabIndex={-1} sx={{ flexGrow: 1, minWidth: 0, outline: 'none' }}>
        <Toolbar variant="dense" />
        <Outlet />
      </Box>
    </Box>
  );
}

function Navigation({ onNavigate }: { onNavigate: () => void }) {
  const { site } = useParams();
  const may = useSession().data?.may;
  if (site === undefined) return null;
  const open = pages.filter((p) => p.role === undefined || may?.includes(p.role));
  return (
    <Box component="nav" aria-label="Pages">
      <List>
        {open.map((p) => (
          <ListItem key={p.path} disablePadding>
            <ListItemButton
              component={NavLink}
              to={`/sites/${site}${p.path}`}
              end={p.path === ''}
              onClick={onNavigate}
              sx={{ mx: 1, borderRadius: 1, '&.active': { bgcolor: 'action.selected', fontWeight: 650 } }}
            >
              <ListItemIcon sx={{ minWidth: 38 }}>{p.icon}</ListItemIcon>
              <ListItemText primary={p.label} />
            </ListItemButton>
          </ListItem>
        ))}
      </List>
    </Box>
  );
}

function TopBar({ sites, onMenu, showMenu }: { sites: Site[]; onMenu: () => void; showMenu: boolean }) {
  const { site } = useParams();
  const navigate = useNavigate();
  const queries = useQueryClient();
  const mayAdd = useMay('administer');
  const signOut = async () => {
    await answer(api.DELETE('/api/v1/session'));
    queries.clear();
    await navigate('/sign-in');
  };
  return (
    <AppBar position="fixed" color="default" elevation={0} sx={{ zIndex: (t) => t.zIndex.drawer + 1, borderBottom: 1, borderColor: 'divider', bgcolor: 'background.paper' }}>
      <Toolbar variant="dense" sx={{ gap: 1 }}>
        {showMenu && (
          <IconButton edge="start" aria-label="Open the list of pages" onClick={onMenu}>
            <MenuIcon />
          </IconButton>
        )}
        <Box component="img" src="/icon.svg" alt="" sx={{ width: 26, height: 26 }} />
        <Typography component="span" sx={{ fontWeight: 700, display: { xs: 'none', sm: 'block' }, width: drawerWidth - 74 }}>
          Airdrift
        </Typography>
        {site !== undefined && (
          <Select
            size="small"
            variant="standard"
            disableUnderline
            value={sites.some((s) => String(s.id) === site) ? site : ''}
            onChange={(e) => void navigate(`/sites/${e.target.value}`)}
            inputProps={{ 'aria-label': 'Site' }}
            sx={{ fontWeight: 600, minWidth: 0 }}
          >
            {sites.map((s) => (
              <MenuItem key={s.id} value={String(s.id)}>
                {s.name}
              </MenuItem>
            ))}
            {mayAdd && <MenuItem value="new">Enter another site …</MenuItem>}
          </Select>
        )}
        <Box sx={{ flexGrow: 1 }} />
        <ModeButton />
        <AccountButton />
        <Tooltip title="Sign out">
          <IconButton aria-label="Sign out" onClick={() => void signOut()}>
            <LogoutIcon />
          </IconButton>
        </Tooltip>
      </Toolbar>
    </AppBar>
  );
}

/** Leads to one's own password and tokens. */
function AccountButton() {
  const { site } = useParams();
  const session = useSession().data;
  if (site === undefined || !session) return null;
  const label = `${session.user}, who may ${session.role}: password and tokens`;
  return (
    <Tooltip title={label}>
      <IconButton component={NavLink} to={`/sites/${site}/account`} aria-label={label}>
        <AccountIcon />
      </IconButton>
    </Tooltip>
  );
}

/** Turns light into dark and back. */
export function ModeButton() {
  const { mode, systemMode, setMode } = useColorScheme();
  const dark = (mode === 'system' ? systemMode : mode) === 'dark';
  const label = dark ? 'Use light colours' : 'Use dark colours';
  return (
    <Tooltip title={label}>
      <IconButton aria-label={label} onClick={() => setMode(dark ? 'light' : 'dark')}>
        {dark ? <LightModeIcon /> : <DarkModeIcon />}
      </IconButton>
    </Tooltip>
  );
}
