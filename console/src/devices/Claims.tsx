import { Alert, Box, Stack, Tooltip, Typography } from '@mui/material';

import type { Claim, Device } from '../api/client';
import { Confidence } from '../app/Confidence';
import { Fold, useFold } from '../app/Fold';
import { DeviceText, Panel } from '../app/parts';
import { factor, visible } from '../lib/format';
import { kindLabel } from './kinds';
import { words } from './words';

type Candidate = Claim['candidates'][number];
type Reason = Candidate['reasons'][number];

/** What is believed of a device and why; where nothing is believed, what it could be. */
export function Claims({ d, folded }: { d: Device; folded: boolean }) {
  const told = d.claims.filter((c) => c.candidates.length > 0);
  return (
    <Panel title={words.whatItIsBelievedTo}>
      {told.length === 0 ? (
        <Typography color="textSecondary">{words.nothingThatWasSeenTells}</Typography>
      ) : (
        <Stack spacing={2}>
          {told.map((c) => (
            <ClaimBlock key={c.attribute} claim={c} folded={folded} />
          ))}
        </Stack>
      )}
      {d.settle.length > 0 && (
        <Box sx={{ mt: 2 }}>
          <Typography variant="h3">{words.whatWouldSettleIt}</Typography>
          <Box component="ul" sx={{ m: 0, pl: 2.5 }}>
            {d.settle.map((way) => (
              <li key={way}>{way}</li>
            ))}
          </Box>
        </Box>
      )}
    </Panel>
  );
}

const inWords = (claim: Claim, value: string) => (claim.attribute === 'kind' ? kindLabel(value) : visible(value));

/** What is shown of a claim where nothing is believed: the likeliest, as a guess. */
export function guess(claim: Claim | undefined): string {
  const best = claim?.candidates[0];
  return claim && best && !claim.strength ? inWords(claim, best.value) : '';
}

function ClaimBlock({ claim, folded }: { claim: Claim; folded: boolean }) {
  const shown = claim.strength > 0 && claim.value ? inWords(claim, claim.value) : 'unknown';
  const best = guess(claim);
  const why = claim.candidates.map((candidate) => <CandidateBlock key={candidate.value} claim={claim} candidate={candidate} />);
  return (
    <Box>
      <Stack direction="row" spacing={1.5} useFlexGap sx={{ alignItems: 'baseline', flexWrap: 'wrap' }}>
        <Typography color="textSecondary" sx={{ width: 76 }}>
          {claim.attribute}
        </Typography>
        <Typography component="h3" variant="h3">
          {shown}
        </Typography>
        {claim.perhaps && (
          <Typography color="textSecondary">
            {words.perhaps} {kindLabel(claim.perhaps)}
          </Typography>
        )}
        {best && (
          <Typography color="textSecondary">
            {words.bestGuess} {best}
          </Typography>
        )}
        {claim.strength > 0 && <Confidence strength={claim.strength} />}
      </Stack>
      {claim.conflict && (
        <Alert severity="warning" sx={{ mt: 0.5 }}>
          {visible(claim.conflict)}
        </Alert>
      )}
      {folded ? <Fold title={words.why}>{why}</Fold> : why}
    </Box>
  );
}

function CandidateBlock({ claim, candidate }: { claim: Claim; candidate: Candidate }) {
  const role = candidate.besides ? words.itAlsoDoesThis : candidate.builtOn ? words.moreExactlyItCouldBe : claim.strength > 0 ? words.speaksAgainstIt : words.itCouldBe;
  return (
    <Box sx={{ pl: { sm: '88px' }, mt: 0.5 }}>
      {candidate.value !== claim.value && (
        <Typography variant="body2" component="div" sx={{ color: candidate.besides ? 'text.secondary' : 'warning.main' }}>
          {role}: {visible(candidate.value)} <Confidence strength={candidate.strength} />
        </Typography>
      )}
      <ReasonList reasons={candidate.reasons} />
    </Box>
  );
}

/** The reasons for one value. Of one source only the strongest counts; the others are shown when somebody asks for them. */
function ReasonList({ reasons }: { reasons: Reason[] }) {
  const counts = (r: Reason) => reasons.find((s) => s.fact.source === r.fact.source) === r;
  const counted = reasons.filter(counts);
  const [shown, more] = useFold([...counted, ...reasons.filter((r) => !counts(r))], counted.length, words.thatTheSameSourcesSay);
  return (
    <>
      {shown.map((r, i) => (
        <Typography key={i} variant="body2">
          <Tooltip title={words.db(r.strength, counts(r) ? '' : words.notCountedAsItsSource)}>
            <Box component="span" sx={{ color: 'text.secondary', mr: 1 }}>
              {counts(r) ? `×${factor(r.strength)}` : `(×${factor(r.strength)})`}
            </Box>
          </Tooltip>
          {visible(r.because)} <DeviceText>{`${r.fact.key} ${r.fact.value}`}</DeviceText>
        </Typography>
      ))}
      {more}
    </>
  );
}
