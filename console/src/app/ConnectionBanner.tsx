import { Alert, Button } from '@mui/material';
import { useQueryClient, type Query } from '@tanstack/react-query';
import { useEffect, useState } from 'react';

import { isSignedOut } from '../api/client';
import { clock } from '../lib/format';
import { words } from './words';

/** How often what has failed is asked for again, in milliseconds. */
const retryEvery = 5000;

/** Whether something that is shown could not be brought up to date. */
const isStale = (query: Query) => query.isActive() && query.state.data !== undefined && query.state.fetchFailureCount > 0 && !isSignedOut(query.state.error);

/** Says that what is shown may be old, as the service does not answer, and asks again until it does. */
export function ConnectionBanner() {
  const queries = useQueryClient();
  const [since, setSince] = useState<number>(); // when the oldest of what is stale was had
  useEffect(
    () =>
      queries.getQueryCache().subscribe(() => {
        const stale = queries.getQueryCache().getAll().filter(isStale);
        setSince(stale.length > 0 ? Math.min(...stale.map((query) => query.state.dataUpdatedAt)) : undefined);
      }),
    [queries],
  );
  const stale = since !== undefined;
  useEffect(() => {
    if (!stale) return;
    const timer = setInterval(() => void queries.refetchQueries({ predicate: isStale }), retryEvery);
    return () => clearInterval(timer);
  }, [stale, queries]);
  if (!stale) return null;
  return (
    <Alert
      severity="warning"
      role="status"
      sx={{ borderRadius: 0 }}
      action={
        <Button color="inherit" size="small" onClick={() => void queries.refetchQueries({ predicate: isStale })}>
          {words.tryNow}
        </Button>
      }
    >
      {words.theServiceDoesNotAnswer} {clock(since)}
      {words.andAskedAgainByItself}
    </Alert>
  );
}
