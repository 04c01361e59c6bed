/** All texts of this part of the console, so that another language can take their place. */
export const words = {
  theServiceDoesNotAnswer: 'The service does not answer. Is it running, and is this machine connected to it?',
};
