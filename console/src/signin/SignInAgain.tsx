import { Dialog, DialogContent, DialogTitle, Typography } from '@mui/material';
import { useQueryClient } from '@tanstack/react-query';
import { useNavigate } from 'react-router';

import { SignInForm } from './SignInForm';
import { words } from './words';

/** Lets who was signed in go on with the page: what was typed there stays. Another user begins anew. */
export function SignInAgain({ user }: { user: string }) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const signedIn = async (now: string) => {
    if (now === user) {
      await queries.invalidateQueries();
      return;
    }
    queries.clear();
    await navigate('/', { replace: true });
  };
  return (
    <Dialog open fullWidth maxWidth="xs" aria-labelledby="sign-in-again">
      <DialogTitle id="sign-in-again">{words.theSessionHasEnded}</DialogTitle>
      <DialogContent>
        <SignInForm known={user} onSignedIn={signedIn} head={<Typography>{words.signInToGoOn}</Typography>} />
      </DialogContent>
    </Dialog>
  );
}
