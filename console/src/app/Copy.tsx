import { IconButton, Tooltip } from '@mui/material';
import { useState } from 'react';

import { Icon } from './Icon';
import { icons } from './icons';
import { words } from './words';

/** How long it is shown that something was copied, in milliseconds. */
const shownFor = 1500;

/** Copies a text, such as an address, to the clipboard. */
export function Copy({ text }: { text: string }) {
  const [done, setDone] = useState<boolean>();
  const copy = async () => {
    try {
      await navigator.clipboard.writeText(text);
      setDone(true);
    } catch {
      setDone(false); // the browser does not permit it
    }
    setTimeout(() => setDone(undefined), shownFor);
  };
  const label = done === undefined ? words.copy(text) : done ? words.copied : words.theBrowserDoesNotPermit;
  return (
    <Tooltip title={label}>
      <IconButton size="small" aria-label={label} onClick={() => void copy()} sx={{ p: 0.5 }}>
        {done ? <Icon of={icons.check} size={15} /> : <Icon of={icons.contentCopy} size={15} />}
      </IconButton>
    </Tooltip>
  );
}
