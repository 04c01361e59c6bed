import { Drawer } from '@mui/material';

import { Navigation } from './Navigation';

/** The list of pages where the window has no room for it at the side: it is drawn over the page until a page is chosen. */
export function SideDrawer({ onClose }: { onClose: () => void }) {
  return (
    <Drawer open onClose={onClose} slotProps={{ paper: { sx: { width: 228, pt: '49px' } } }}>
      <Navigation onNavigate={onClose} />
    </Drawer>
  );
}
