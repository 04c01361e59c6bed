import { Box } from '@mui/material';

import type { Device, Port } from '../api/client';
import { Empty, DeviceText, Panel } from '../app/parts';
import { SmallTable } from '../app/SmallTable';
import { words } from './words';

/** The open ports of a device, and what was said there. */
export function Ports({ d }: { d: Device }) {
  if (d.ports.length === 0) {
    return (
      <Panel title={words.ports}>
        <Empty title={words.noPortThatWasAsked} />
      </Panel>
    );
  }
  return (
    <Panel title={words.portsAndBanners}>
      <SmallTable
        label={words.openPortsAndWhatWas}
        rows={d.ports}
        rowKey={(p) => p.port}
        columns={[
          { head: words.port, line: true, cell: (p) => <DeviceText>{p.port}</DeviceText> },
          { head: words.service, cell: (p) => p.service },
          { head: words.banner, cell: (p) => <Words words={p.words} /> },
        ]}
      />
    </Panel>
  );
}

function Words({ words }: { words: Port['words'] }) {
  return words.map((w) => (
    <Box key={w.key + w.value}>
      <Box component="span" sx={{ color: 'text.secondary' }}>
        {w.key}{' '}
      </Box>
      <DeviceText>{w.value}</DeviceText>
    </Box>
  ));
}
