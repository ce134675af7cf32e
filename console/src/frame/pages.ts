import {
  mdiAccountGroupOutline,
  mdiAlertDecagramOutline,
  mdiBellAlertOutline,
  mdiBookOpenVariantOutline,
  mdiBookshelf,
  mdiCalendarAccountOutline,
  mdiChartBoxOutline,
  mdiChartLine,
  mdiCogOutline,
  mdiFileDocumentOutline,
  mdiHistory,
  mdiKeyOutline,
  mdiLightningBoltOutline,
  mdiPlayBoxOutline,
  mdiPowerPlugOutline,
  mdiServerNetwork,
  mdiSitemapOutline,
  mdiTarget,
  mdiTrayArrowDown,
} from '@mdi/js'

import type { Schemas } from '../api/client'

/** A page of the rail. `key` opens it. */
export interface Page {
  to: string
  title: string
  icon: string
  key?: string
  /** Who alone has it. */
  role?: Schemas['Role']
}

/** The rail, by what somebody is there to do. */
export const groups: { title: string; pages: Page[] }[] = [
  {
    title: 'Respond',
    pages: [
      { to: '/', title: 'Now', icon: mdiBellAlertOutline, key: '1' },
      { to: '/incidents', title: 'Incidents', icon: mdiAlertDecagramOutline, key: '2' },
      { to: '/runs', title: 'Runs', icon: mdiPlayBoxOutline, key: '3' },
    ],
  },
  {
    title: 'Services',
    pages: [
      { to: '/services', title: 'Services', icon: mdiServerNetwork, key: '4' },
      { to: '/readings', title: 'Readings', icon: mdiChartLine },
      { to: '/objectives', title: 'Objectives', icon: mdiTarget },
      { to: '/reports', title: 'Reports', icon: mdiChartBoxOutline },
    ],
  },
  {
    title: 'Author',
    pages: [
      { to: '/runbooks', title: 'Runbooks', icon: mdiBookOpenVariantOutline, key: '5' },
      { to: '/library', title: 'Library', icon: mdiBookshelf },
      { to: '/triggers', title: 'Triggers', icon: mdiLightningBoltOutline, key: '6' },
      { to: '/sources', title: 'Sources', icon: mdiTrayArrowDown, key: '7' },
    ],
  },
  {
    title: 'Set up',
    pages: [
      { to: '/people', title: 'People and teams', icon: mdiAccountGroupOutline, role: 'admin' },
      { to: '/rotas', title: 'Rotas', icon: mdiCalendarAccountOutline, key: '9' },
      { to: '/targets', title: 'Targets', icon: mdiSitemapOutline },
      { to: '/integrations', title: 'Integrations', icon: mdiPowerPlugOutline, role: 'admin' },
      { to: '/secrets', title: 'Secrets and files', icon: mdiKeyOutline },
      { to: '/documents', title: 'Documents', icon: mdiFileDocumentOutline, key: '8' },
      { to: '/audit', title: 'Audit', icon: mdiHistory, role: 'admin' },
      { to: '/installation', title: 'Installation', icon: mdiCogOutline },
    ],
  },
]

export const pages = groups.flatMap((g) => g.pages)

/** Whether a path lies on a page, or below it. */
export const isAt = (page: string, path: string) =>
  page === '/' ? path === '/' : path === page || path.startsWith(`${page}/`)
