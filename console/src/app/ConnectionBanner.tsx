import { Alert, Button } from '@mui/material';
import { useQueryClient, type Query } from '@tanstack/react-query';
import { useEffect, useState } from 'react';

import { mayPass } from '../api/client';
import { clock } from '../lib/format';
import { words } from './words';

/** How often what has failed is asked for again, in milliseconds. */
const retryEvery = 5000;

/** Whether something that is shown could not be brought up to date. It is so until it could: each further attempt begins without a failure of its own. */
function isStale(query: Query) {
  const { data, status, error, fetchFailureCount, fetchFailureReason } = query.state;
  return query.isActive() && data !== undefined && (fetchFailureCount > 0 ? mayPass(fetchFailureReason) : status === 'error' && mayPass(error));
}

/**
 * Says that what is shown may be old, as the service does not answer, and asks again until it does. It lies at the foot of the window, so that nothing moves under a
 * hand when it comes and goes.
 */
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
      className="stale"
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
