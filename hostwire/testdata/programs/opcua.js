// A server of OPC UA with seven objects beside those that every such server has. It keeps its keys in the folder that is given.
process.env.HOME = process.argv[3];
process.env.XDG_CONFIG_HOME = process.argv[3];
const { OPCUAServer } = require('node-opcua-server');

(async () => {
  const server = new OPCUAServer({ port: 4840, hostname: process.argv[2], buildInfo: { productName: 'Acorn panel' } });
  await server.initialize();
  const { addressSpace } = server.engine;
  for (let i = 1; i <= 7; i++) {
    addressSpace.getOwnNamespace().addObject({ organizedBy: addressSpace.rootFolder.objects, browseName: `Room ${i}` });
  }
  await server.start();
})();
