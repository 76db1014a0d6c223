// @vitest-environment happy-dom

import { beforeEach, describe, expect, it, vi } from 'vitest'

import { changeLanguage, gettext, lookUp, ngettext } from './language'

describe('texts', () => {
  it('puts values in as they are, and nothing for what is not known', () => {
    expect(gettext('by %{who}, %{when}', { who: '%{when} $& <b>', when: null })).toBe('by %{when} $& <b>, ')
    expect([ngettext('%{n} person', '%{n} people', 1), ngettext('%{n} person', '%{n} people', 0)]).toEqual(['1 person', '0 people'])
  })
  it('takes no word for what every object has', () => {
    expect(lookUp({}, 'constructor')).toBe('constructor')
  })
})

describe('changeLanguage', () => {
  beforeEach(() => sessionStorage.clear())
  it('asks for the page in another language once, and never again and again', () => {
    const reload = vi.spyOn(window.location, 'reload').mockImplementation(() => undefined)
    changeLanguage('de-AT')
    changeLanguage('de-AT')
    expect(document.cookie).toContain('openlatch_language=de')
    expect(reload).toHaveBeenCalledTimes(1)
    changeLanguage('en-GB')
    expect(reload).toHaveBeenCalledTimes(1)
  })
})
