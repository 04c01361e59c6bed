/** All texts of this part of the console, so that another language can take their place. */
export const words = {
  minS: (minutes: string | number, seconds: string | number) => `${minutes} min ${seconds} s`,
  hMin: (minutes: string | number, minutesToo: string | number) => `${minutes} h ${minutesToo} min`,
  noEvidence: 'no evidence',
  to1: (strength: string | number) => `${strength} to 1`,
};
