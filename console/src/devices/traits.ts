import { words } from './words';
/** What each trait means for who looks at the device. */
export const traitMeanings: Record<string, string> = {
  'own machine': words.thisIsTheMachineThe,
  'answers for others': words.oneMacAddressAnswersFor,
  'accepts every port': words.itAcceptsConnectionsToWhatever,
  'virtual router': words.itHoldsAnAddressThat,
  'wrong subnet': words.itWasHeardOnThis,
};
