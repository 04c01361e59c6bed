import { Box, Button } from '@mui/material';
import { useState, type ReactNode } from 'react';

/** The first few of a list, and a button that shows the rest; its label is "and 12 more" with what it is told more behind it. */
export function useFold<T>(list: T[], few: number, more = ''): [T[], ReactNode] {
  const [all, setAll] = useState(false);
  if (all || list.length <= few) return [list, null];
  const button = (
    <Button key="more" size="small" onClick={() => setAll(true)} sx={{ p: 0, minWidth: 0 }}>
      {['and', list.length - few, 'more', more].filter(Boolean).join(' ')}
    </Button>
  );
  return [list.slice(0, few), button];
}

/** Something that is shown when somebody asks for it. */
export function Fold({ title, open, children }: { title: ReactNode; open?: boolean; children: ReactNode }) {
  return (
    <Box component="details" open={open} sx={{ '& > summary': { cursor: 'pointer', py: 0.5, borderRadius: 1 }, '& > summary:focus-visible': { outline: '2px solid' } }}>
      <summary>{title}</summary>
      {children}
    </Box>
  );
}
