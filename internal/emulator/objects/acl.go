package objects

import (
	"encoding/xml"
	"maps"
	"net/http"
)

// aclHeader is where a request says who may read; an object that everybody may read keeps
// it with its headers.
const aclHeader = "X-Amz-Acl"

const publicRead = "public-read"

// publicBy reports whether a request says that everybody may read, and whether it says
// anything.
func publicBy(r *http.Request) (public, said bool, err error) {
	switch acl := r.Header.Get(aclHeader); acl {
	case "":
		return false, false, nil
	case "private", "bucket-owner-read", "bucket-owner-full-control": // there is one owner
		return false, true, nil
	case publicRead:
		return true, true, nil
	default:
		return false, true, notHere("the access control list " + acl)
	}
}

// withACL returns the headers of an object that everybody may read, or not.
func withACL(headers map[string]string, public bool) map[string]string {
	out := maps.Clone(headers)
	if delete(out, aclHeader); public {
		out[aclHeader] = publicRead
	}
	return out
}

func (s *Server) getACL(q *request) error {
	b, err := s.Store.Bucket(q.Context(), q.bucket)
	if err != nil {
		return err
	}
	public := b.Public
	if q.key != "" {
		o, err := s.found(q)
		if err != nil {
			return err
		}
		public = public || o.Headers[aclHeader] != ""
	}
	type grantee struct {
		Space string `xml:"xmlns:xsi,attr"`
		Type  string `xml:"xsi:type,attr"`
		ID    string `xml:",omitempty"`
		URI   string `xml:",omitempty"`
	}
	type grant struct {
		Grantee    grantee
		Permission string
	}
	const xsi = "http://www.w3.org/2001/XMLSchema-instance"
	grants := []grant{{grantee{xsi, "CanonicalUser", me.ID, ""}, "FULL_CONTROL"}}
	if public {
		grants = append(grants, grant{grantee{xsi, "Group", "", "http://acs.amazonaws.com/groups/global/AllUsers"}, "READ"})
	}
	q.answer(200, struct {
		XMLName xml.Name `xml:"AccessControlPolicy"`
		Space   string   `xml:"xmlns,attr"`
		Owner   owner
		Grants  []grant `xml:"AccessControlList>Grant"`
	}{Space: namespace, Owner: me, Grants: grants})
	return nil
}

func (s *Server) putACL(q *request) error {
	public, said, err := publicBy(q.Request)
	switch {
	case err != nil:
		return err
	case !said:
		return notHere("an access control list other than by the header x-amz-acl")
	case q.key == "":
		return s.change(q, func(b *Bucket) { b.Public = public })
	}
	o, err := s.found(q)
	if err != nil {
		return err
	}
	o.Headers = withACL(o.Headers, public)
	return s.Store.Retag(q.Context(), o, o.Tags)
}
