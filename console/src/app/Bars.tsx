import { useColorScheme } from '@mui/material/styles';
import { useQueryClient } from '@tanstack/react-query';
import { Suspense, useState } from 'react';
import { NavLink, useNavigate, useParams } from 'react-router';

import { answer, api, type Site } from '../api/client';
import { Icon } from './Icon';
import { icons } from './icons';
import { later } from './later';
import { useMay, useSession } from './queries';
import { words } from './words';

const CheckDialog = later(() => import('../sweeps/Check').then((m) => m.CheckDialog));

/** The bar at the top: which site, and what is needed from anywhere. */
export function TopBar({ sites, onMenu, showMenu }: { sites: Site[]; onMenu: () => void; showMenu: boolean }) {
  const { site } = useParams();
  const navigate = useNavigate();
  const queries = useQueryClient();
  const signOut = async () => {
    await answer(api.DELETE('/api/v1/session'));
    queries.clear();
    await navigate('/sign-in');
  };
  return (
    <header className="bar">
      {showMenu && <BarButton label={words.openTheListOfPages} icon={icons.menu} onClick={onMenu} />}
      <img src="/icon.svg" alt="" />
      <span className="bar-name">{words.airdrift}</span>
      {site !== undefined && <SiteChoice sites={sites} site={site} />}
      <span className="bar-gap" />
      {site !== undefined && <CheckButton site={Number(site)} />}
      <ModeButton />
      <AccountButton />
      <BarButton label={words.signOut} icon={icons.logout} onClick={() => void signOut()} />
    </header>
  );
}

/** What the choice of a site holds for another one that is to be added. */
const another = 'new';

/** Which of the sites is looked at. */
function SiteChoice({ sites, site }: { sites: Site[]; site: string }) {
  const navigate = useNavigate();
  const mayAdd = useMay('administer');
  return (
    <select className="bar-site" aria-label={words.site} value={sites.some((s) => String(s.id) === site) ? site : ''} onChange={(e) => void navigate(`/sites/${e.target.value}`)}>
      {sites.map((s) => (
        <option key={s.id} value={String(s.id)}>
          {s.name}
        </option>
      ))}
      {mayAdd && <option value={another}>{words.addAnotherSite}</option>}
    </select>
  );
}

interface BarButtonProps {
  label: string;
  icon: string;
  onClick: () => void;
  /** Leaves it out on a phone, which has it at the bottom. */
  wideOnly?: boolean;
}

function BarButton({ label, icon, onClick, wideOnly }: BarButtonProps) {
  return (
    <button type="button" className={wideOnly ? 'bar-button wide-only' : 'bar-button'} aria-label={label} title={label} onClick={onClick}>
      <Icon of={icon} />
    </button>
  );
}

/** On a phone, what is needed from anywhere, where a thumb reaches it. */
export function BottomBar({ site, onMenu }: { site: number; onMenu: () => void }) {
  return (
    <nav className="thumbs" aria-label={words.atHand}>
      <button type="button" onClick={onMenu}>
        <Icon of={icons.menu} />
        {words.pages}
      </button>
      <NavLink to={`/sites/${site}/devices`}>
        <Icon of={icons.devicesOther} />
        {words.devices}
      </NavLink>
      <CheckButton site={site} atThumb />
    </nav>
  );
}

/** Checks an address from whatever page somebody is on. */
function CheckButton({ site, atThumb }: { site: number; atThumb?: boolean }) {
  const [open, setOpen] = useState(false);
  if (!useMay('sweep')) return null;
  const label = words.checkAnAddress;
  return (
    <>
      {atThumb ? (
        <button type="button" aria-label={label} onClick={() => setOpen(true)}>
          <Icon of={icons.radar} />
          {words.check}
        </button>
      ) : (
        <BarButton label={label} icon={icons.radar} onClick={() => setOpen(true)} wideOnly />
      )}
      {open && (
        <Suspense fallback={null}>
          <CheckDialog site={site} onClose={() => setOpen(false)} />
        </Suspense>
      )}
    </>
  );
}

/** Leads to one's own password and tokens. */
function AccountButton() {
  const { site } = useParams();
  const session = useSession().data;
  if (site === undefined || !session) return null;
  const label = words.whoMayPasswordAndTokens(session.user, session.role);
  return (
    <NavLink className="bar-button" to={`/sites/${site}/account`} aria-label={label} title={label}>
      <Icon of={icons.accountCircle} />
    </NavLink>
  );
}

/** Turns light into dark and back. */
export function ModeButton() {
  const { mode, systemMode, setMode } = useColorScheme();
  const dark = (mode === 'system' ? systemMode : mode) === 'dark';
  return <BarButton label={dark ? words.useLightColours : words.useDarkColours} icon={dark ? icons.lightMode : icons.darkMode} onClick={() => setMode(dark ? 'light' : 'dark')} />;
}
