import { Box, Paper, Stack, Typography } from '@mui/material';
import { useQueryClient } from '@tanstack/react-query';
import { useEffect } from 'react';
import { useLocation, useNavigate } from 'react-router';

import { ModeButton } from '../app/Bars';
import { SignInForm } from './SignInForm';
import { words } from './words';

/** Lets somebody in, and goes on to where that was to lead. */
export function SignInPage() {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const location = useLocation();
  useEffect(() => {
    document.title = words.signInAirdrift; // and no longer what was shown before
  }, []);
  const signedIn = async () => {
    queries.clear();
    const from = (location.state as { from?: string } | null)?.from;
    await navigate(from?.startsWith('/') ? from : '/', { replace: true });
  };
  return (
    <Box component="main" sx={{ minHeight: '100vh', display: 'grid', placeItems: 'center', p: 2 }}>
      <Box sx={{ position: 'absolute', top: 8, right: 8 }}>
        <ModeButton />
      </Box>
      <Paper variant="outlined" sx={{ p: 4, width: '100%', maxWidth: 400 }}>
        <SignInForm
          onSignedIn={signedIn}
          head={
            <Stack direction="row" spacing={1.5} sx={{ alignItems: 'center' }}>
              <Box component="img" src="/icon.svg" alt="" sx={{ width: 40, height: 40 }} />
              <Box>
                <Typography variant="h1">{words.airdrift}</Typography>
                <Typography color="textSecondary">{words.whatIsHereAndWho}</Typography>
              </Box>
            </Stack>
          }
          foot={
            <Typography variant="body2" color="textSecondary">
              {words.theFirstUserIs} <code>{words.administrator}</code>
              {words.itsFirstPasswordIsIn}
            </Typography>
          }
        />
      </Paper>
    </Box>
  );
}
