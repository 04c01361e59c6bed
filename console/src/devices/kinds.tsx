import { Icon } from '../app/Icon';
import { pictures } from './pictures';

const pictureOf: Record<string, string> = {
  router: pictures.router,
  switch: pictures.deviceHub,
  firewall: pictures.shield,
  'access-point': pictures.wifi,
  modem: pictures.router,
  server: pictures.dns,
  hypervisor: pictures.dns,
  storage: pictures.storage,
  workstation: pictures.desktopWindows,
  laptop: pictures.laptop,
  tablet: pictures.tablet,
  mobile: pictures.smartphone,
  printer: pictures.print,
  'label-printer': pictures.label,
  scanner: pictures.scanner,
  camera: pictures.videocam,
  'video-recorder': pictures.voicemail,
  phone: pictures.phone,
  'voice-gateway': pictures.phone,
  pbx: pictures.phone,
  intercom: pictures.phone,
  'paging-speaker': pictures.campaign,
  display: pictures.tv,
  'media-player': pictures.tv,
  'stage-node': pictures.theaterComedy,
  till: pictures.pointOfSale,
  'access-controller': pictures.doorFront,
  'plant-controller': pictures.acUnit,
  plc: pictures.settingsInputComponent,
  hmi: pictures.touchApp,
  drive: pictures.settingsInputComponent,
  meter: pictures.electricMeter,
  thermostat: pictures.thermostat,
  sensor: pictures.sensors,
  'lighting-controller': pictures.lightbulb,
  gateway: pictures.swapHoriz,
  'serial-server': pictures.swapHoriz,
  ups: pictures.batteryChargingFull,
  pdu: pictures.power,
  'time-server': pictures.schedule,
  'irrigation-controller': pictures.waterDrop,
  'lab-instrument': pictures.biotech,
  'smart-plug': pictures.power,
  'virtual-machine': pictures.dns,
};

/** The kind's picture; the label beside it says the same. */
export function KindIcon({ kind }: { kind: string }) {
  return <Icon of={pictureOf[kind] ?? pictures.helpOutline} size={20} colour="var(--mui-palette-text-secondary)" />;
}

/** A kind in a list: its picture and its label, cut off where there is no room. */
export function KindCell({ kind }: { kind: string }) {
  return (
    <span className="kind">
      <KindIcon kind={kind} />
      <span>{kindLabel(kind)}</span>
    </span>
  );
}

/** The kind in words. */
export function kindLabel(kind: string): string {
  return kind.replace(/-/g, ' ').replace(/\b(ups|pdu|plc|hmi|pbx)\b/g, (w) => w.toUpperCase());
}
