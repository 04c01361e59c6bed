import { NavLink, useParams } from 'react-router';

import { Icon } from './Icon';
import { icons } from './icons';
import { useSession, type Role } from './queries';
import { words } from './words';

const pages: { path: string; label: string; icon: string; role?: Role }[] = [
  { path: '', label: words.overview, icon: icons.spaceDashboard },
  { path: '/devices', label: words.devices, icon: icons.devicesOther },
  { path: '/findings', label: words.findings, icon: icons.warningAmber },
  { path: '/addresses', label: words.addresses, icon: icons.workspaces },
  { path: '/sweeps', label: words.sweeps, icon: icons.travelExplore },
  { path: '/changes', label: words.changes, icon: icons.compareArrows },
  { path: '/completeness', label: words.completeness, icon: icons.radar },
  { path: '/response-times', label: words.responseTimes, icon: icons.speed },
  { path: '/openness', label: words.openness, icon: icons.lockOpen },
  { path: '/firmware', label: words.firmware, icon: icons.memory },
  { path: '/drift', label: words.drift, icon: icons.callSplit },
  { path: '/register', label: words.register, icon: icons.factCheck },
  { path: '/report', label: words.report, icon: icons.download },
  { path: '/fence', label: words.fence, icon: icons.fence },
  { path: '/footing', label: words.footing, icon: icons.cable },
  { path: '/credentials', label: words.credentials, icon: icons.key },
  { path: '/rules', label: words.rules, icon: icons.rule },
  { path: '/users', label: words.users, icon: icons.peopleOutline, role: 'administer' },
];

/** The list of pages. */
export function Navigation({ onNavigate }: { onNavigate?: () => void }) {
  const { site } = useParams();
  const may = useSession().data?.may;
  if (site === undefined) return null;
  const open = pages.filter((p) => p.role === undefined || may?.includes(p.role));
  return (
    <nav className="pages" aria-label={words.pages}>
      <ul>
        {open.map((p) => (
          <li key={p.path}>
            <NavLink to={`/sites/${site}${p.path}`} end={p.path === ''} onClick={onNavigate}>
              <Icon of={p.icon} />
              {p.label}
            </NavLink>
          </li>
        ))}
      </ul>
    </nav>
  );
}
