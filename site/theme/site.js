/* Where the pages are, for the search; and the list of documents, open where there is room. */
var base_url = document.currentScript.dataset.base

document.addEventListener('DOMContentLoaded', function () {
  var all = document.querySelector('nav details')
  var wide = window.matchMedia('(min-width: 900px)')
  var follow = function () { all.open = wide.matches }
  follow()
  wide.addEventListener('change', follow)
  document.querySelector('.search').addEventListener('submit', function (event) { event.preventDefault() })
  document.addEventListener('keydown', function (event) {
    if (event.key !== '/' || /INPUT|TEXTAREA/.test(document.activeElement.tagName)) return
    event.preventDefault()
    document.getElementById('mkdocs-search-query').focus()
  })
})
