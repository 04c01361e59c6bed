import { Box, Button, LinearProgress, Link, Stack, Typography } from '@mui/material';
import { useQuery } from '@tanstack/react-query';
import { Link as RouterLink } from 'react-router';

import { answer, api, type Progress, type Sweep } from '../api/client';
import { keys } from '../app/keys';
import { Failure, Panel } from '../app/parts';
import { moment, number, span, visible } from '../lib/format';
import { sweepSentence } from './state';
import { words } from './words';

/** What happened in a sweep, and when. */
export function Log({ id }: { id: number }) {
  const log = useQuery({
    queryKey: keys.sweepLog(id),
    queryFn: async () => (await answer(api.GET('/api/v1/sweeps/{sweep}/log', { params: { path: { sweep: id } } }))).items,
  });
  return (
    <Panel title={words.log}>
      <Failure failure={log.error} />
      <Box component="ol" sx={{ listStyle: 'none', m: 0, p: 0, '& time': { color: 'text.secondary', mr: 2 } }}>
        {log.data?.map((l, i) => (
          <li key={i}>
            <time dateTime={l.at}>{moment(l.at)}</time>
            {visible(l.text)}
          </li>
        ))}
      </Box>
    </Panel>
  );
}

/** How far a sweep is. */
export function Running({ progress, sweep }: { progress: Progress | undefined; sweep: Sweep }) {
  const share = progress && progress.total > 0 ? (100 * progress.done) / progress.total : 0;
  return (
    <Panel>
      <Stack direction="row" spacing={3} sx={{ mb: 1.5, flexWrap: 'wrap', rowGap: 0.5 }}>
        <Typography role="status" sx={{ fontWeight: 650 }}>
          {progress?.stage ?? words.beginning}
        </Typography>
        <Typography>{Math.floor(share)} %</Typography>
        <Typography>
          {progress?.found ?? 0} {words.found}
        </Typography>
        <Typography color="textSecondary">
          {number(Math.round(progress?.rate ?? 0))} {words.probesSToo}
        </Typography>
        <Typography color="textSecondary">{progress && progress.secondsLeft > 0 ? words.leftInThisStage(span(progress.secondsLeft)) : ''}</Typography>
      </Stack>
      <LinearProgress variant="determinate" value={share} aria-label={words.progressOfThisStage} sx={{ height: 8, borderRadius: 4 }} />
      <Typography variant="body2" color="textSecondary" sx={{ mt: 1.5 }}>
        {sweep.ranges} {words.fromToo} {sweep.vantage}, {sweep.pace}, {sweep.ports} {words.portsToo}
      </Typography>
    </Panel>
  );
}

/** How a sweep ended, and what came of it. */
export function Ended({ sweep }: { sweep: Sweep }) {
  return (
    <Panel>
      <Typography>{sweepSentence(sweep)}</Typography>
      <Typography color="textSecondary">
        {sweep.ranges}
        {sweep.exclusions ? words.without(sweep.exclusions) : ''} {words.fromToo} {sweep.vantage}, {sweep.pace}, {sweep.ports} {words.portsToo}
        {sweep.startedBy && words.startedBy(sweep.startedBy)}
        {words.comparedWithWhatWasKnown}{' '}
        {(['appeared', 'vanished', 'moved', 'changed'] as const).map((kind, i) => (
          <span key={kind}>
            {i > 0 && ', '}
            <Link component={RouterLink} to={`/sites/${sweep.site}/changes?sweep=${sweep.id}&kind=${kind}`}>
              {sweep[kind]} {kind}
            </Link>
          </span>
        ))}
        .{sweep.pinned && words.itIsPinnedWhatIt}
        {sweep.thinned && words.whatItSawIsNo}
      </Typography>
      <Button component={RouterLink} to={`/sites/${sweep.site}/devices?presence=seen`} sx={{ mt: 1, ml: -1 }}>
        {words.theDevices}
      </Button>
      <Button component={RouterLink} to={`/sites/${sweep.site}/changes?sweep=${sweep.id}`} sx={{ mt: 1 }}>
        {words.whatChanged}
      </Button>
    </Panel>
  );
}
