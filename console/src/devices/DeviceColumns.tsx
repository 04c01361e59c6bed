import { Button, Divider, ListItemIcon, ListItemText, Menu, MenuItem, useMediaQuery } from '@mui/material';
import { useTheme } from '@mui/material/styles';
import { useState } from 'react';

import { Icon } from '../app/Icon';
import { icons } from '../app/icons';
import { columns, readColumns, type Column } from './filter';
import { words } from './words';

/** The columns that fit the window. */
function useFittingColumns(): Column[] {
  const theme = useTheme();
  const medium = useMediaQuery(theme.breakpoints.up('sm'));
  const wide = useMediaQuery(theme.breakpoints.up('lg'));
  if (!medium) return ['address', 'kind', 'standing'];
  if (!wide) return ['address', 'name', 'kind', 'vendor', 'standing'];
  return ['address', 'name', 'kind', 'vendor', 'model', 'standing', 'lastSeen'];
}

/** What each column is called. */
export const columnNames: Record<Column, string> = {
  address: words.address,
  name: words.name,
  kind: words.kind,
  vendor: words.vendor,
  model: words.model,
  os: words.system,
  firmware: words.firmwareToo,
  strength: words.confidence,
  standing: words.standing,
  presence: words.presence,
  mac: 'MAC',
  firstSeen: words.firstSeen,
  lastSeen: words.lastSeen,
  group: words.groupToo,
  traits: words.flags,
};

const kept = 'airdrift.device-columns';

/** The columns that somebody chose last in this browser, or else those that fit; and how to choose others, or with undefined those that fit again. */
export function useColumns(): [Column[], (chosen: Column[] | undefined) => void] {
  const fitting = useFittingColumns();
  const [chosen, setChosen] = useState(() => readColumns(localStorage.getItem(kept)));
  const choose = (next: Column[] | undefined) => {
    if (next) localStorage.setItem(kept, next.join(','));
    else localStorage.removeItem(kept);
    setChosen(next);
  };
  return [chosen ?? fitting, choose];
}

/** Lets somebody choose which columns the list has; with undefined those that fit. */
export function ColumnsButton({ shown, onShown }: { shown: Column[]; onShown: (columns: Column[] | undefined) => void }) {
  const [anchor, setAnchor] = useState<HTMLElement>();
  const toggle = (c: Column) => onShown(columns.filter((each) => (each === c ? !shown.includes(c) : shown.includes(each))));
  return (
    <>
      <Button startIcon={<Icon of={icons.viewColumn} />} aria-haspopup="menu" onClick={(e) => setAnchor(e.currentTarget)}>
        {words.columns}
      </Button>
      <Menu
        open={anchor !== undefined}
        anchorEl={anchor}
        onClose={() => setAnchor(undefined)}
        slotProps={{ paper: { role: 'dialog', 'aria-label': words.columnsToShow }, list: { dense: true, 'aria-label': words.columns } }}
      >
        {columns.map((c) => (
          <MenuItem key={c} role="menuitemcheckbox" aria-checked={shown.includes(c)} onClick={() => toggle(c)}>
            <ListItemIcon>
              <Icon of={shown.includes(c) ? icons.checkBox : icons.checkBoxOutlineBlank} size={20} />
            </ListItemIcon>
            <ListItemText primary={columnNames[c]} />
          </MenuItem>
        ))}
        <Divider />
        <MenuItem
          role="menuitem"
          onClick={() => {
            onShown(undefined);
            setAnchor(undefined);
          }}
        >
          <ListItemText primary={words.columnsThatFit} />
        </MenuItem>
      </Menu>
    </>
  );
}
