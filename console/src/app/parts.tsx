import { Alert, Box, Stack, Typography } from '@mui/material';
import { useEffect, useRef, type ReactNode } from 'react';
import { useLocation } from 'react-router';

import { Problem } from '../api/client';
import { visible } from '../lib/format';
import { words } from './words';

/** The path whose heading was told last. Filters are not part of it: who sets one stays where they are. */
let told = window.location.pathname;

/** Names the window after the page, and moves the focus to its heading where somebody came from another page, so that what is read out begins there. */
function useHeading() {
  const heading = useRef<HTMLHeadingElement>(null);
  const { pathname, search } = useLocation();
  useEffect(() => {
    const [name] = heading.current?.innerText.trim().split('\n', 1) ?? []; // without the chips beside a device's name
    document.title = name ? `${name} – Airdrift` : 'Airdrift';
  });
  useEffect(() => {
    if (told === pathname) return;
    told = pathname;
    if (!new URLSearchParams(search).has('at')) window.scrollTo(0, 0); // a list goes on where its address says
    heading.current?.focus({ preventScroll: true });
  }, [pathname, search]);
  return heading;
}

/** A page with its heading, and what can be done on it beside the heading. */
export function Page({ title, actions, children }: { title: ReactNode; actions?: ReactNode; children: ReactNode }) {
  const heading = useHeading();
  return (
    <div className="page">
      <div className="page-head">
        <h1 ref={heading} tabIndex={-1}>
          {title}
        </h1>
        {actions}
      </div>
      {children}
    </div>
  );
}

/** A framed part of a page. */
export function Panel({ title, children }: { title?: ReactNode; children: ReactNode }) {
  return (
    <section className="panel">
      {title !== undefined && <h2>{title}</h2>}
      {children}
    </section>
  );
}

/** Names and values, one below the other; what has no value is left out. */
export function Pairs({ pairs }: { pairs: [string, ReactNode][] }) {
  return (
    <Box
      component="dl"
      sx={{
        display: 'grid',
        gridTemplateColumns: 'minmax(90px, auto) 1fr',
        columnGap: 2,
        rowGap: 0.75,
        m: 0,
        '& dt': { color: 'text.secondary' },
        '& dd': { m: 0, minWidth: 0, overflowWrap: 'anywhere' },
      }}
    >
      {pairs
        .filter(([, value]) => value !== '' && value !== undefined && value !== null)
        .map(([name, value]) => (
          <Box key={name} sx={{ display: 'contents' }}>
            <dt>{name}</dt>
            <dd>{value}</dd>
          </Box>
        ))}
    </Box>
  );
}

/** Lets a table that is wider than the window be scrolled by itself, by keyboard too. */
export function Scrolling({ label, children }: { label: string; children: ReactNode }) {
  return (
    <Box tabIndex={0} role="group" aria-label={label} sx={{ overflowX: 'auto', mx: -2, px: 2 }}>
      {children}
    </Box>
  );
}

/** A failure, in the service's own words. */
export function Failure({ failure }: { failure: unknown }) {
  if (!failure) return null;
  const details = failure instanceof Problem ? failure.details : [];
  const text = failure instanceof Error ? failure.message : words.somethingWentWrong;
  return (
    <Alert severity="error">
      {text}
      {details.length > 0 && (
        <Box component="ul" sx={{ m: 0, mt: 1, pl: 2.5 }}>
          {details.map((d, i) => (
            <li key={i}>
              <strong>{[d.location, typeof d.value === 'string' && d.value ? `(${visible(d.value)})` : ''].filter(Boolean).join(' ')}</strong>: {visible(d.message ?? '')}
            </li>
          ))}
        </Box>
      )}
    </Alert>
  );
}

/** What a page shows while its data come. */
export function Loading() {
  return <div className="loading" role="status" aria-label={words.loading} />;
}

/** What a list shows that has nothing in it yet, and what to do about it. */
export function Empty({ title, children }: { title: string; children?: ReactNode }) {
  return (
    <Stack spacing={1} sx={{ alignItems: 'center', py: 6, px: 2, textAlign: 'center' }}>
      <Typography variant="h3" component="p">
        {title}
      </Typography>
      <Typography component="div" color="textSecondary">
        {children}
      </Typography>
    </Stack>
  );
}

/** Text that came from a device or names one: addresses, banners, keys. The theme gives it its face. */
export function DeviceText({ children }: { children: string | undefined }) {
  return <span className="device-text">{visible(children ?? '')}</span>;
}

/** The colours of tags, by what they mean. */
export type Tone = 'success' | 'warning' | 'error' | 'info' | 'default';

/** A state in a word, framed in the colour of what it means. */
export function Tag({ tone = 'default', children }: { tone?: Tone; children: string }) {
  return <span className={`tag ${tone}`}>{children}</span>;
}

const standingTones = { managed: 'success', unmanaged: 'warning', missing: 'error', 'set aside': 'default' } as const;

/** A device's standing against the register. */
export function StandingTag({ standing }: { standing: keyof typeof standingTones }) {
  return <Tag tone={standingTones[standing]}>{standing}</Tag>;
}
