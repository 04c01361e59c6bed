import { Box, Card, CardActionArea, LinearProgress, Stack, Typography } from '@mui/material';
import { useWindowVirtualizer } from '@tanstack/react-virtual';
import { useEffect, useLayoutEffect, useRef, useState } from 'react';
import { Link as RouterLink } from 'react-router';

import type { DeviceLine } from '../api/client';
import { DeviceText, StandingTag } from '../app/parts';
import { useSiteId } from '../app/queries';
import { count, visible } from '../lib/format';
import { NoDevices, placeOf, type ListProps } from './DeviceList';
import { KindCell } from './kinds';
import { words } from './words';

/** About how high a card is, with the gap below it, in pixels; each is measured when it is drawn. */
const cardHeight = 92;

/** How long somebody has to rest at a card before it is taken down, in milliseconds. */
const restFor = 300;

/** The list of devices on a phone: a card for each, which scroll with the page. Only those on screen are drawn, and loaded. */
export function DeviceCards(props: ListProps) {
  return props.list.total === undefined ? <LinearProgress aria-label={words.loading} /> : <Cards {...props} />;
}

function Cards({ filter, list, onAt }: ListProps) {
  const top = useRef<HTMLUListElement>(null);
  const [margin, setMargin] = useState(0);
  useLayoutEffect(() => setMargin(top.current?.offsetTop ?? 0), []);
  const { look, total = 0 } = list;
  const cards = useWindowVirtualizer({ count: total, estimateSize: () => cardHeight, overscan: 6, scrollMargin: margin });
  const drawn = cards.getVirtualItems();
  const first = drawn[0]?.index ?? 0;
  const last = drawn.at(-1)?.index ?? 0;
  useEffect(() => look(first, last), [look, first, last]);
  const start = useRef(filter.at);
  useEffect(() => {
    if (start.current > 0) cards.scrollToIndex(start.current, { align: 'start' });
    start.current = 0;
  }, [cards]);
  const offset = cards.scrollOffset ?? 0;
  const at = drawn.find((card) => card.end > offset + margin / 2)?.index ?? 0;
  useEffect(() => {
    if (at === filter.at) return;
    const timer = setTimeout(() => onAt(at), restFor);
    return () => clearTimeout(timer);
  }, [at, filter.at, onAt]);
  return (
    <Box>
      <Typography color="textSecondary" sx={{ mb: 1 }}>
        {count(total, 'device')}
      </Typography>
      <Box sx={{ height: 4 }}>{list.loading && <LinearProgress aria-label={words.loading} />}</Box>
      {total === 0 && <NoDevices />}
      <Box component="ul" ref={top} aria-label={words.devices} sx={{ listStyle: 'none', p: 0, m: 0, position: 'relative', height: cards.getTotalSize() }}>
        {drawn.map(({ index, key, start }) => {
          const line = list.row(index);
          return (
            <Box
              key={key}
              component="li"
              ref={cards.measureElement}
              data-index={index}
              aria-setsize={total}
              aria-posinset={index + 1}
              sx={{ position: 'absolute', left: 0, right: 0, pb: 1 }}
              style={{ top: start - margin }}
            >
              {line ? <DeviceCard line={line} /> : <Card variant="outlined" sx={{ height: cardHeight - 8 }} />}
            </Box>
          );
        })}
      </Box>
    </Box>
  );
}

function DeviceCard({ line }: { line: DeviceLine }) {
  const site = useSiteId();
  const made = [line.vendor, line.model].filter(Boolean).join(' ');
  return (
    <Card variant="outlined">
      <CardActionArea component={RouterLink} to={`/sites/${site}/devices/${line.id}`} sx={{ px: 2, py: 1 }}>
        <Stack direction="row" spacing={1} sx={{ justifyContent: 'space-between', alignItems: 'center' }}>
          <Typography sx={{ fontWeight: 600, minWidth: 0, overflowWrap: 'anywhere' }}>{line.name ? visible(line.name) : <DeviceText>{placeOf(line)}</DeviceText>}</Typography>
          <StandingTag standing={line.standing} />
        </Stack>
        <Stack
          direction="row"
          useFlexGap
          sx={{ columnGap: 2, justifyContent: 'space-between', alignItems: 'center', flexWrap: 'wrap', '& > *': { flexShrink: 0, maxWidth: '100%' } }}
        >
          <KindCell kind={line.kind} />
          {line.name && <DeviceText>{placeOf(line)}</DeviceText>}
        </Stack>
        {made && (
          <Typography variant="body2" color="textSecondary" sx={{ overflowWrap: 'anywhere' }}>
            {visible(made)}
          </Typography>
        )}
      </CardActionArea>
    </Card>
  );
}
