import { Box, Button } from '@mui/material';
import type { UseQueryResult } from '@tanstack/react-query';
import type { ReactNode } from 'react';

import { Failure, Loading, Page } from './parts';
import { words } from './words';

/** What is asked: an answer of the service, or some of a long one. */
type Asked<T> = Pick<UseQueryResult<T>, 'data' | 'error' | 'refetch'>;

/** One answer of the service on a page: what is known is shown whatever fails later; where nothing was ever had, it says why and tries again. */
export function Within<T>({ query, children }: { query: Asked<T>; children: (data: NonNullable<T>) => ReactNode }) {
  if (query.data !== undefined && query.data !== null) return children(query.data);
  if (!query.error) return <Loading />;
  return (
    <>
      <Failure failure={query.error} />
      <Box>
        <Button variant="outlined" onClick={() => void query.refetch()}>
          {words.tryAgain}
        </Button>
      </Box>
    </>
  );
}

/** A page that is nothing without one answer of the service; the title is shown where there is none. */
export function Loaded<T>({ title, query, children }: { title: string; query: Asked<T>; children: (data: NonNullable<T>) => ReactNode }) {
  if (query.data !== undefined && query.data !== null) return children(query.data);
  if (!query.error) return <Loading />;
  return (
    <Page title={title}>
      <Within query={query}>{children}</Within>
    </Page>
  );
}
