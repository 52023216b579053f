// All that the console knows of kinds of channels: what people call them, and how they are reached.
import { both, byHttp, bySftp, bySnmp, is, labelled, name, shared, words, type Field } from './field'

/** What people call the kinds of channels, in the order of choices. */
export const CHANNEL_KINDS: Record<string, string> = {
  'mail-server': 'Mail server',
  folder: 'Folder of this machine',
  upload: 'Upload by HTTP (WebDAV)',
  'object-storage': 'Bucket of object storage (S3)',
  webhook: 'Web hook',
  syslog: 'Syslog',
  program: 'Program of this machine',
  sftp: 'Folder of another machine (SFTP)',
  snmp: 'SNMP notification',
}
export const channelKind = (kind: string): string => CHANNEL_KINDS[kind] ?? kind

const mail = is('channel.kind', 'mail-server')

/** What a channel is, kind by kind. */
export const CHANNEL_FIELDS: Field[] = [
  {
    key: 'channel.kind',
    title: 'Kind',
    as: 'choice',
    needed: true,
    choices: labelled(CHANNEL_KINDS),
  },
  ...name('channel'),
  shared('channel'),
  { key: 'channel.host', title: 'Host', as: 'text', needed: true, when: mail },
  { key: 'channel.port', title: 'Port', as: 'number', when: mail },
  { key: 'channel.tls', title: 'Encryption', as: 'choice', usual: 'starttls', choices: [{ value: 'starttls', label: 'STARTTLS' }, { value: 'tls', label: 'TLS from the start' }, { value: 'off', label: 'None' }], when: mail },
  { key: 'channel.from', title: 'Sender', as: 'text', needed: true, hint: 'Such as Reports <reports@example.org>.', when: mail },
  { key: 'channel.sign-in.kind', title: 'Sign-in', as: 'choice', choices: [{ value: '', label: 'None' }, { value: 'password', label: 'User and password' }, { value: 'token', label: 'User and token' }], when: mail },
  { key: 'channel.sign-in.user', title: 'User', as: 'text', needed: true, when: both(mail, is('channel.sign-in.kind', 'password', 'token')) },
  { key: 'channel.sign-in.password', title: 'Password', as: 'secret', needed: true, when: both(mail, is('channel.sign-in.kind', 'password')) },
  { key: 'channel.sign-in.token', title: 'Token', as: 'secret', needed: true, when: both(mail, is('channel.sign-in.kind', 'token')) },
  { key: 'channel.folder', title: 'Folder', as: 'text', needed: true, hint: 'A folder that the configuration lists under deliver-into.', when: is('channel.kind', 'folder') },
  { key: 'channel.bucket', title: 'Bucket', as: 'text', needed: true, when: is('channel.kind', 'object-storage') },
  { key: 'channel.prefix', title: 'Names begin with', as: 'text', hint: 'Such as reports/.', when: is('channel.kind', 'object-storage') },
  { key: 'channel.region', title: 'Region', as: 'text', usual: 'us-east-1', when: is('channel.kind', 'object-storage') },
  { key: 'channel.access-key', title: 'Access key', as: 'text', needed: true, when: is('channel.kind', 'object-storage') },
  { key: 'channel.secret-key', title: 'Secret key', as: 'secret', needed: true, when: is('channel.kind', 'object-storage') },
  { key: 'channel.name-in-host', title: 'The bucket is part of the server’s name', as: 'truth', more: true, when: is('channel.kind', 'object-storage') },
  { key: 'channel.url', title: 'Address of the server', as: 'text', needed: true, hint: 'Such as https://objects.example.org.', when: is('channel.kind', 'object-storage') },
  { key: 'channel.address', title: 'Host and port', as: 'text', needed: true, hint: 'Such as log.example.org:514.', when: is('channel.kind', 'syslog') },
  { key: 'channel.address', title: 'Host and port', as: 'text', needed: true, hint: 'Such as nms.example.org:162.', when: is('channel.kind', 'snmp') },
  { key: 'channel.notification', title: 'Notification', as: 'choice', usual: 'inform', choices: [{ value: 'inform', label: 'Inform: its receiver confirms it' }, { value: 'trap', label: 'Trap: nobody confirms it' }], when: is('channel.kind', 'snmp') },
  ...bySnmp('channel'),
  { key: 'channel.enterprise', title: 'Enterprise number', as: 'text', usual: '1.3.6.1.4.1.32473.1', hint: 'All objects are below it. Give your own if you have one, and the same in the MIB.', more: true, when: is('channel.kind', 'snmp') },
  ...bySftp('channel'),
  { key: 'channel.folder', title: 'Folder', as: 'text', needed: true, hint: 'From the root of the machine, or from where its user begins.', when: is('channel.kind', 'sftp') },
  { key: 'channel.protocol', title: 'Protocol', as: 'choice', usual: 'udp', choices: words('udp', 'tcp'), when: is('channel.kind', 'syslog') },
  { key: 'channel.program', title: 'Program', as: 'text', needed: true, hint: 'Its name under [programs] in the configuration.', when: is('channel.kind', 'program') },
  ...byHttp('channel', 'upload', 'webhook'),
  { key: 'channel.text', title: 'Text for a chat', as: 'long', hint: 'Such as {{ report.title }}: {{ summary }}. Without it figures, status and links are sent in JSON.', when: is('channel.kind', 'webhook') },
  { key: 'channel.body', title: 'Shape of the message', as: 'long', hint: 'JSON, if another shape than {"text": …} is wanted: {"message": "{{ text }}"}. There are text, title, status, report and url.', when: is('channel.kind', 'webhook') },
  { key: 'channel.key', title: 'Key for signatures', as: 'secret', hint: 'Messages are signed as Standard Webhooks has it.', when: is('channel.kind', 'webhook') },
  { key: 'channel.max-concurrency', title: 'Deliveries at a time', as: 'number', usual: '4', more: true },
  { key: 'channel.rate-per-minute', title: 'Deliveries a minute, at most', as: 'number', more: true },
]
