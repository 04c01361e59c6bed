import { Button, Divider, ListItemIcon, ListItemText, Menu, MenuItem, useMediaQuery } from '@mui/material';
import { useTheme } from '@mui/material/styles';
import { useState } from 'react';

import { Icon } from '../app/Icon';
import { icons } from '../app/icons';
import { columnsOf, type Field } from './fields';
import { readColumns } from './filter';
import { words } from './words';

/** The columns that fit the window. */
function useFittingColumns(fields: Field[]): string[] {
  const theme = useTheme();
  const medium = useMediaQuery(theme.breakpoints.up('sm'));
  const wide = useMediaQuery(theme.breakpoints.up('lg'));
  const place = wide ? 'wide' : medium ? 'medium' : 'narrow';
  return columnsOf(fields)
    .filter((f) => f.shown.includes(place))
    .map((f) => f.name);
}

const kept = 'airdrift.device-columns';

/** The columns that somebody chose last in this browser, or else those that fit; and how to choose others, or with undefined those that fit again. */
export function useColumns(fields: Field[]): [string[], (chosen: string[] | undefined) => void] {
  const fitting = useFittingColumns(fields);
  const [chosen, setChosen] = useState(() => readColumns(localStorage.getItem(kept), fields));
  const choose = (next: string[] | undefined) => {
    if (next) localStorage.setItem(kept, next.join(','));
    else localStorage.removeItem(kept);
    setChosen(next);
  };
  return [chosen ?? fitting, choose];
}

/** Lets somebody choose which columns the list has; with undefined those that fit. */
export function ColumnsButton({ fields, shown, onShown }: { fields: Field[]; shown: string[]; onShown: (columns: string[] | undefined) => void }) {
  const [anchor, setAnchor] = useState<HTMLElement>();
  const columns = columnsOf(fields);
  const toggle = (name: string) => onShown(columns.map((f) => f.name).filter((each) => (each === name ? !shown.includes(name) : shown.includes(each))));
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
        {columns.map((f) => (
          <MenuItem key={f.name} role="menuitemcheckbox" aria-checked={shown.includes(f.name)} onClick={() => toggle(f.name)}>
            <ListItemIcon>
              <Icon of={shown.includes(f.name) ? icons.checkBox : icons.checkBoxOutlineBlank} size={20} />
            </ListItemIcon>
            <ListItemText primary={f.heading} />
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
