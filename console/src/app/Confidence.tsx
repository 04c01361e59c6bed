import { Box, Tooltip, Typography } from '@mui/material';

import { odds } from '../lib/format';
import { words } from './words';

/** The strength at which the bar is full, in decibans: odds of 10,000 to 1. */
const full = 40;

/** How sure something is: a bar, and the odds beside it. The tooltip has the strength in decibans, as rules give it. */
export function Confidence({ strength }: { strength: number }) {
  return (
    <Tooltip title={words.db(strength)}>
      <Box component="span" sx={{ display: 'inline-flex', alignItems: 'center', gap: 1, whiteSpace: 'nowrap' }}>
        <Box component="span" aria-hidden sx={{ width: 48, height: 8, borderRadius: 1, bgcolor: 'action.selected', overflow: 'hidden', display: 'inline-block' }}>
          <Box component="span" sx={{ display: 'block', height: 8, width: `${(100 * Math.min(full, Math.max(0, strength))) / full}%`, bgcolor: 'primary.main' }} />
        </Box>
        <Typography component="span" variant="body2" color="textSecondary">
          {odds(strength)}
        </Typography>
      </Box>
    </Tooltip>
  );
}
