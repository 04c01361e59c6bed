/** All texts of this part of the console, so that another language can take their place. */
export const words = {
  addASite: 'Add a site',
  aSiteIsABuilding: 'A site is a building or facility. It is swept in its own networks and nowhere else, so add only what you have leave to look through.',
  nameOfTheSite: 'Name of the site',
  networks: 'Networks',
  cidrPrefixesSuchAs10: 'CIDR prefixes, such as 10.40.1.0/24, one a line',
  addTheSite: 'Add the site',
};
