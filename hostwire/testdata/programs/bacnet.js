// A device of BACnet/IP with two kinds of object, which answers as its library writes it.
const Device = require('node-bacnet');
const { ApplicationTag: tag, PropertyIdentifier: property, Segmentation } = Device.enum;

const number = 5001;
const objects = [{ type: 8, instance: number }, ...Array.from({ length: 12 }, (_, i) => ({ type: i % 2, instance: i }))];
const text = (value) => [{ type: tag.CHARACTER_STRING, value }];
const properties = {
  [property.OBJECT_IDENTIFIER]: [{ type: tag.OBJECTIDENTIFIER, value: objects[0] }],
  [property.OBJECT_NAME]: text('acorn climate'),
  [property.VENDOR_NAME]: text('Acorn Controls'),
  [property.VENDOR_IDENTIFIER]: [{ type: tag.UNSIGNED_INTEGER, value: 999 }],
  [property.MODEL_NAME]: text('Acorn 9'),
  [property.FIRMWARE_REVISION]: text('1.4'),
};
const isOwn = (o) => o.type === 8 && (o.instance === number || o.instance === 4194303);

const device = new Device({ interface: process.argv[2] });
device.on('readProperty', ({ header, invokeId, payload }) => {
  const { objectId, property: asked } = payload;
  let value = isOwn(objectId) ? properties[asked.id] : undefined;
  if (isOwn(objectId) && asked.id === property.OBJECT_LIST) {
    const all = objects.map((o) => ({ type: tag.OBJECTIDENTIFIER, value: o }));
    value = asked.index === 0 ? [{ type: tag.UNSIGNED_INTEGER, value: objects.length }] : asked.index > objects.length ? all : [all[asked.index - 1]];
  }
  if (!value) return device.errorResponse(header.sender, 12, invokeId, 2, 32);
  device.readPropertyResponse(header.sender, invokeId, objects[0], asked, value);
});
device.on('readPropertyMultiple', ({ header, invokeId, payload }) => {
  const answers = payload.properties.map((q) => ({
    objectId: objects[0],
    values: q.properties.filter((p) => isOwn(q.objectId) && properties[p.id]).map((p) => ({ property: p, value: properties[p.id] })),
  }));
  device.readPropertyMultipleResponse(header.sender, invokeId, answers);
});
device.on('whoIs', ({ header }) => device.iAmResponse(header.sender, number, Segmentation.NO_SEGMENTATION, 999));
device.on('error', (failure) => console.error(failure));
