// Sends a mail as an application would: with a name, a picture in its HTML and
// an attachment, over TLS if the server offers it.
import nodemailer from 'nodemailer'

const transport = nodemailer.createTransport({
  url: process.env.SMTP_URL,
  auth: { user: 'shop', pass: 'anything' },
  tls: { rejectUnauthorized: false },
})
const picture = Buffer.from('iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg==', 'base64')
const info = await transport.sendMail({
  from: 'Toolshed <shed@toolshed.example>',
  to: ['Ines Brandt <ines@toolshed.example>', 'Jörg Möller <joerg@toolshed.example>'],
  bcc: 'archive@toolshed.example',
  subject: 'Rückgabe fällig: „Schlagbohrmaschine“',
  text: 'Bitte bis Freitag.\n.\n.. so it begins\n',
  html: '<p>Bitte bis <b>Freitag</b>.</p><img src="cid:drill">',
  attachments: [
    { filename: 'bohrer.png', content: picture, cid: 'drill' },
    { filename: 'Quittung für März.txt', content: 'Summe: 12,50 €' },
  ],
})
console.log(JSON.stringify({ accepted: info.accepted }))
