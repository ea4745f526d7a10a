// A site with a part for administrators, by Express.
const express = require('express')

const site = express()
site.use('/admin', (request, answer) => answer.send('app admin'))
site.use((request, answer) => answer.send('app roster'))
site.listen(Number(process.argv[2]), '127.0.0.1')
