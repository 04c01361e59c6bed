/** What each trait means for who looks at the device. */
export const traitMeanings: Record<string, string> = {
  'own machine': 'This is the machine the sweep was made from.',
  'answers for others': 'One MAC address answers for many addresses, behind which there need be nobody. It is one device, and not as many as there are addresses.',
  'accepts every port': 'It accepts connections to whatever port, so an open port of it proves nothing.',
  'virtual router': 'It holds an address that several routers take turns at.',
  'wrong subnet': 'It was heard on this segment with an address from another subnet, and cannot be asked from here.',
};

/** All traits that a filter offers. */
export const traits = Object.keys(traitMeanings);
