import AccessIcon from '@mui/icons-material/DoorFrontOutlined';
import AlarmIcon from '@mui/icons-material/SensorsOutlined';
import ApIcon from '@mui/icons-material/WifiOutlined';
import CameraIcon from '@mui/icons-material/VideocamOutlined';
import DisplayIcon from '@mui/icons-material/TvOutlined';
import DriveIcon from '@mui/icons-material/SettingsInputComponentOutlined';
import FirewallIcon from '@mui/icons-material/ShieldOutlined';
import HmiIcon from '@mui/icons-material/TouchAppOutlined';
import IrrigationIcon from '@mui/icons-material/WaterDropOutlined';
import LabIcon from '@mui/icons-material/BiotechOutlined';
import LabelIcon from '@mui/icons-material/LabelOutlined';
import LaptopIcon from '@mui/icons-material/LaptopOutlined';
import LightIcon from '@mui/icons-material/LightbulbOutlined';
import MeterIcon from '@mui/icons-material/ElectricMeterOutlined';
import MobileIcon from '@mui/icons-material/SmartphoneOutlined';
import PhoneIcon from '@mui/icons-material/PhoneOutlined';
import PlantIcon from '@mui/icons-material/AcUnitOutlined';
import PowerIcon from '@mui/icons-material/PowerOutlined';
import PrinterIcon from '@mui/icons-material/PrintOutlined';
import RecorderIcon from '@mui/icons-material/VoicemailOutlined';
import RouterIcon from '@mui/icons-material/RouterOutlined';
import ScannerIcon from '@mui/icons-material/ScannerOutlined';
import ServerIcon from '@mui/icons-material/DnsOutlined';
import SpeakerIcon from '@mui/icons-material/CampaignOutlined';
import StageIcon from '@mui/icons-material/TheaterComedyOutlined';
import StorageIcon from '@mui/icons-material/StorageOutlined';
import SwitchIcon from '@mui/icons-material/DeviceHubOutlined';
import TabletIcon from '@mui/icons-material/TabletOutlined';
import ThermostatIcon from '@mui/icons-material/ThermostatOutlined';
import TillIcon from '@mui/icons-material/PointOfSaleOutlined';
import TimeIcon from '@mui/icons-material/ScheduleOutlined';
import UnknownIcon from '@mui/icons-material/HelpOutlineOutlined';
import UpsIcon from '@mui/icons-material/BatteryChargingFullOutlined';
import WorkstationIcon from '@mui/icons-material/DesktopWindowsOutlined';
import GatewayIcon from '@mui/icons-material/SwapHorizOutlined';
import { Box } from '@mui/material';
import type { SvgIconComponent } from '@mui/icons-material';

const icons: Record<string, SvgIconComponent> = {
  router: RouterIcon, switch: SwitchIcon, firewall: FirewallIcon, 'access-point': ApIcon, modem: RouterIcon, server: ServerIcon,
  hypervisor: ServerIcon, storage: StorageIcon, workstation: WorkstationIcon, laptop: LaptopIcon, tablet: TabletIcon, mobile: MobileIcon,
  printer: PrinterIcon, 'label-printer': LabelIcon, scanner: ScannerIcon, camera: CameraIcon, 'video-recorder': RecorderIcon,
  phone: PhoneIcon, 'voice-gateway': PhoneIcon, pbx: PhoneIcon, intercom: PhoneIcon, 'paging-speaker': SpeakerIcon, display: DisplayIcon,
  'media-player': DisplayIcon, 'stage-node': StageIcon, till: TillIcon, 'access-controller': AccessIcon, 'plant-controller': PlantIcon,
  plc: DriveIcon, hmi: HmiIcon, drive: DriveIcon, meter: MeterIcon, thermostat: ThermostatIcon, sensor: AlarmIcon,
  'lighting-controller': LightIcon, gateway: GatewayIcon, 'serial-server': GatewayIcon, ups: UpsIcon, pdu: PowerIcon,
  'time-server': TimeIcon, 'irrigation-controller': IrrigationIcon, 'lab-instrument': LabIcon, 'smart-plug': PowerIcon,
  'virtual-machine': ServerIcon,
};

/** All kinds that a filter offers. */
export const kinds = [...Object.keys(icons), 'unknown'];

/** The kind's picture; the label beside it says the same. */
export function KindIcon({ kind }: { kind: string }) {
  const Icon = icons[kind] ?? UnknownIcon;
  return <Icon aria-hidden fontSize="small" sx={{ color: 'text.secondary', flexShrink: 0 }} />;
}

/** A kind in a list: its picture and its label, cut off where there is no room. */
export function KindCell({ kind }: { kind: string }) {
  return (
    <Box sx={{ display: 'flex', alignItems: 'center', gap: 1, height: '100%' }}>
      <KindIcon kind={kind} />
      <Box component="span" sx={{ overflow: 'hidden', textOverflow: 'ellipsis' }}>
        {kindLabel(kind)}
      </Box>
    </Box>
  );
}

/** The kind in words. */
export function kindLabel(kind: string): string {
  return kind.replace(/-/g, ' ').replace(/\b(ups|pdu|plc|hmi|pbx)\b/g, (w) => w.toUpperCase());
}
