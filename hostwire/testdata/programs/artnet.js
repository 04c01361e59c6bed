// A device of Art-Net that answers polls and receives one universe.
const { dmxnet: Device } = require('dmxnet');

new Device({ hosts: [process.argv[2]], sName: 'acorn', lName: 'acorn stage', log: { level: 'error' } }).newReceiver({ net: 0, subnet: 0, universe: 0 });
