import { Box, Button, Dialog, DialogActions, DialogContent, DialogTitle, IconButton, Stack, Tooltip } from '@mui/material';
import { useState, type ReactNode, type SubmitEvent } from 'react';

import { Icon } from './Icon';
import { icons } from './icons';
import { Failure } from './parts';
import { words } from './words';

/** The button in a row of a table that deletes what the row is about, once somebody has said so; says is what goes with it, and what stays. */
export function DeleteButton({ label, says, onDelete }: { label: string; says: string; onDelete: () => void }) {
  const [asking, setAsking] = useState(false);
  return (
    <>
      <Tooltip title={label}>
        <IconButton size="small" aria-label={label} onClick={() => setAsking(true)}>
          <Icon of={icons.delete} size={20} />
        </IconButton>
      </Tooltip>
      {asking && (
        <Confirmation
          title={`${label}?`}
          does={words.deleteIt}
          onConfirm={() => {
            setAsking(false);
            onDelete();
          }}
          onClose={() => setAsking(false)}
        >
          {says}
        </Confirmation>
      )}
    </>
  );
}

/** Asks before something that cannot be undone; the children say what goes. */
export function Confirmation({ title, does, onConfirm, onClose, children }: { title: string; does: string; onConfirm: () => void; onClose: () => void; children: ReactNode }) {
  return (
    <Dialog open onClose={onClose} fullWidth maxWidth="xs">
      <DialogTitle>{title}</DialogTitle>
      <DialogContent>{children}</DialogContent>
      <DialogActions sx={{ px: 3, pb: 2 }}>
        <Button autoFocus onClick={onClose}>
          {words.cancel}
        </Button>
        <Button color="error" variant="contained" onClick={onConfirm}>
          {does}
        </Button>
      </DialogActions>
    </Dialog>
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
  const submit = (e: SubmitEvent) => {
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
          <Button onClick={onClose}>{words.cancel}</Button>
          <Button type="submit" variant="contained" loading={busy}>
            {does}
          </Button>
        </DialogActions>
      </Box>
    </Dialog>
  );
}
