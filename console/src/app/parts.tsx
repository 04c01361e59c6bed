import DeleteIcon from '@mui/icons-material/DeleteOutlined';
import { Alert, Box, Button, Chip, CircularProgress, Dialog, DialogActions, DialogContent, DialogTitle, IconButton, Paper, Stack, Tooltip, Typography } from '@mui/material';
import type { FormEvent, ReactNode } from 'react';

import { Problem } from '../api/client';
import { visible } from '../lib/format';
import { mono } from './theme';

/** A page with its heading, and what can be done on it beside the heading. */
export function Page({ title, actions, children }: { title: ReactNode; actions?: ReactNode; children: ReactNode }) {
  return (
    <Stack spacing={2.5} sx={{ p: { xs: 2, md: 3 }, maxWidth: 1500, mx: 'auto' }}>
      <Stack direction="row" spacing={2} useFlexGap sx={{ alignItems: 'center', justifyContent: 'space-between', flexWrap: 'wrap', rowGap: 1 }}>
        <Typography variant="h1">{title}</Typography>
        {actions}
      </Stack>
      {children}
    </Stack>
  );
}

/** A framed part of a page. */
export function Panel({ title, children }: { title?: ReactNode; children: ReactNode }) {
  return (
    <Paper variant="outlined" component="section" sx={{ p: 2 }}>
      {title !== undefined && (
        <Typography variant="h2" sx={{ mb: 1.5 }}>
          {title}
        </Typography>
      )}
      {children}
    </Paper>
  );
}

/** The button in a row of a table that takes the row away; says is what that does, and what becomes of the rest. */
export function RemoveButton({ label, says = label, onRemove }: { label: string; says?: string; onRemove: () => void }) {
  return (
    <Tooltip title={says}>
      <IconButton size="small" aria-label={label} onClick={onRemove}>
        <DeleteIcon fontSize="small" />
      </IconButton>
    </Tooltip>
  );
}

/** Names and values, one below the other; what has no value is left out. */
export function Pairs({ pairs }: { pairs: [string, ReactNode][] }) {
  return (
    <Box component="dl" sx={{ display: 'grid', gridTemplateColumns: 'minmax(90px, auto) 1fr', columnGap: 2, rowGap: 0.75, m: 0, '& dt': { color: 'text.secondary' }, '& dd': { m: 0, minWidth: 0, overflowWrap: 'anywhere' } }}>
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
export function Scrolling({ children }: { children: ReactNode }) {
  return (
    <Box tabIndex={0} role="group" sx={{ overflowX: 'auto', mx: -2, px: 2 }}>
      {children}
    </Box>
  );
}

/** A failure, in the service's own words. */
export function Failure({ failure }: { failure: unknown }) {
  if (!failure) return null;
  const details = failure instanceof Problem ? failure.details : [];
  const text = failure instanceof Error ? failure.message : String(failure);
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

interface FormProps {
  title: string;
  does: string;
  failure: unknown;
  busy: boolean;
  onSubmit: () => void;
  onClose: () => void;
  children: ReactNode;
}

/** A dialog that is a form. */
export function FormDialog({ title, does, failure, busy, onSubmit, onClose, children }: FormProps) {
  const submit = (e: FormEvent) => {
    e.preventDefault();
    onSubmit();
  };
  return (
    <Dialog open onClose={onClose} fullWidth maxWidth="sm">
      <Box component="form" onSubmit={submit} sx={{ display: 'flex', flexDirection: 'column', minHeight: 0 }}>
        <DialogTitle>{title}</DialogTitle>
        <DialogContent>
          <Stack spacing={2.5} sx={{ pt: 1 }}>
            {children}
            <Failure failure={failure} />
          </Stack>
        </DialogContent>
        <DialogActions sx={{ px: 3, pb: 2 }}>
          <Button onClick={onClose}>Cancel</Button>
          <Button type="submit" variant="contained" loading={busy}>
            {does}
          </Button>
        </DialogActions>
      </Box>
    </Dialog>
  );
}

/** What a page shows while its data come. */
export function Loading() {
  return (
    <Box role="status" aria-label="Loading" sx={{ display: 'grid', placeItems: 'center', py: 8 }}>
      <CircularProgress />
    </Box>
  );
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

/** Text that came from a device or names one: addresses, banners, keys. */
export function DeviceText({ children }: { children: string | undefined }) {
  return (
    <Box component="span" sx={{ fontFamily: mono, fontSize: '0.86em', overflowWrap: 'anywhere' }}>
      {visible(children ?? '')}
    </Box>
  );
}

const standingColours = { managed: 'success', unmanaged: 'warning', missing: 'error', 'set aside': 'default' } as const;

/** A device's standing against the register. */
export function StandingChip({ standing }: { standing: keyof typeof standingColours }) {
  return <Chip size="small" variant="outlined" color={standingColours[standing]} label={standing} />;
}
