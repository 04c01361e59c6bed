import { Button } from '@mui/material';
import { Suspense, useState } from 'react';

import type { Site } from '../api/client';
import { Icon } from '../app/Icon';
import { icons } from '../app/icons';
import { later } from '../app/later';
import { useMay } from '../app/queries';
import { words } from './words';

const StartSweepDialog = later(() => import('./StartSweepDialog').then((m) => m.StartSweepDialog));

/** Opens the dialog that starts a sweep. */
export function StartSweepButton({ site }: { site: Site }) {
  const [open, setOpen] = useState(false);
  if (!useMay('sweep')) return null;
  return (
    <>
      <Button variant="contained" startIcon={<Icon of={icons.playArrow} />} onClick={() => setOpen(true)}>
        {words.startASweep}
      </Button>
      {open && (
        <Suspense fallback={null}>
          <StartSweepDialog site={site} onClose={() => setOpen(false)} />
        </Suspense>
      )}
    </>
  );
}
