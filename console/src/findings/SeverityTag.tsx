import type { Schema } from '../api/client';
import { Tag } from '../app/parts';

/** How bad a finding is. */
export type Severity = Schema['Finding']['severity'];

/** All severities, the worst first. */
export const severities: Severity[] = ['critical', 'high', 'medium', 'low', 'info'];

const tones = { critical: 'error', high: 'error', medium: 'warning', low: 'info', info: undefined } as const;

/** Says how bad a finding is. */
export function SeverityTag({ severity }: { severity: Severity }) {
  return <Tag tone={tones[severity]}>{severity}</Tag>;
}
