/** All texts of this part of the console, so that another language can take their place. */
export const words = {
  theSessionHasEnded: 'The session has ended',
  signInToGoOn: 'Sign in to go on. What you have typed is still there.',
  name: 'Name',
  password: 'Password',
  code: 'Code',
  sixDigitsOfYourAuthenticator: 'Six digits of your authenticator, or a recovery code',
  signIn: 'Sign in',
  signInAirdrift: 'Sign in – Airdrift',
  airdrift: 'Airdrift',
  whatIsHereAndWho: 'What is here, and who manages it',
  theFirstUserIs: 'The first user is',
  administrator: 'administrator',
  itsFirstPasswordIsIn: '; its first password is in the file console-password in the service’s data directory.',
};
